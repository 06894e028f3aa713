//! One line for each request that does not reach its handler: who, where, what, why.

use http::HeaderName;
use http::header::AUTHORIZATION;
use vorsel_core::{AccessPlan, Claims, Refusal, Stop};

use super::request::RequestHead;
use crate::audit::cut;

const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// `claims` are those of a token that was accepted; `in_app` says whether the app has the route, if that is known.
pub(super) fn stopped(
    request: &dyn RequestHead,
    plan: &AccessPlan,
    stop: &Stop,
    status: u16,
    claims: Option<&Claims>,
    in_app: Option<bool>,
) {
    let line = Line::of(request, plan, claims);
    let Line { method, path, route, subject, session, client, request_id } = &line;
    let (code, request_id) = (stop.code(), request_id.as_deref());
    macro_rules! line {
        ($level:ident, $($message:tt)+) => {
            tracing::$level!(
                target: "vorsel::guard", code, status, method, path, route, subject, session, client, request_id,
                $($message)+
            )
        };
    }
    match stop {
        Stop::Preflight | Stop::Options { .. } => line!(debug, "{stop}"),
        Stop::Refused(Refusal::NoRule { .. } | Refusal::NoMethod { .. }) if in_app == Some(true) => {
            line!(error, "{stop}; the app has a handler for it, and the access plan no entry");
        }
        // Either the plan lacks a route or somebody tries paths; of strangers it is mostly the latter.
        Stop::Refused(Refusal::NoRule { signed_in: true }) if in_app.is_none() => line!(error, "{stop}"),
        Stop::Refused(Refusal::Unanswered { .. }) => line!(error, "{stop}"),
        Stop::Refused(Refusal::NoCredential) => {
            let hint = misplaced(request).unwrap_or_default();
            line!(info, "{stop}{hint}");
        }
        _ => line!(info, "{stop}"),
    }
}

/// What was let in went to a handler with another pattern than the plan's entry.
#[cfg(feature = "axum")]
pub(super) fn misrouted(
    request: &dyn RequestHead,
    plan: &AccessPlan,
    status: u16,
    claims: Option<&Claims>,
    problem: &str,
) {
    let line = Line::of(request, plan, claims);
    let Line { method, path, route, subject, session, client, request_id } = &line;
    let request_id = request_id.as_deref();
    tracing::error!(
        target: "vorsel::guard", code = "no-rule", status, method, path, route, subject, session, client, request_id,
        "no-rule: expected {problem}"
    );
}

struct Line<'a> {
    method: &'a str,
    path: &'a str,
    /// The pattern of the plan's entry.
    route: Option<&'a str>,
    subject: Option<&'a str>,
    session: Option<&'a str>,
    client: Option<&'a str>,
    request_id: Option<String>,
}

impl<'a> Line<'a> {
    fn of(request: &'a dyn RequestHead, plan: &'a AccessPlan, claims: Option<&'a Claims>) -> Self {
        let mut request_id = None;
        request.header(&REQUEST_ID, &mut |value| {
            request_id = Some(cut(&String::from_utf8_lossy(value)).to_owned());
        });
        Self {
            method: cut(request.method()),
            path: cut(request.path()),
            route: plan.route_of(request.method(), request.path()).map(vorsel_core::Route::path),
            subject: claims.and_then(Claims::subject).map(cut),
            session: claims.and_then(Claims::session_id).map(cut),
            client: claims.and_then(Claims::client_id).map(cut),
            request_id,
        }
    }
}

/// What a request without a credential has where one may have been meant.
fn misplaced(request: &dyn RequestHead) -> Option<&'static str> {
    let mut has_header = false;
    request.header(&AUTHORIZATION, &mut |_| has_header = true);
    if has_header {
        return Some("; its Authorization header has another scheme than Bearer");
    }
    let in_query = request.query()?.split('&').any(|pair| pair.starts_with("access_token="));
    in_query.then_some("; its query has an access_token, which is never read (RFC 9700 section 4.3.2)")
}
