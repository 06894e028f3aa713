//! The page at `/`: files without a build step, and what they ask beside the endpoints.

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::response::sse::{Event, KeepAlive, Sse};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::get;
use futures_util::{Stream, stream};
use http::header::{
    AUTHORIZATION, CACHE_CONTROL, CONTENT_SECURITY_POLICY, CONTENT_TYPE, REFERRER_POLICY, X_CONTENT_TYPE_OPTIONS,
};
use http::{HeaderMap, StatusCode};
use serde_json::json;
use vorsel::endpoints::own_reach;
use vorsel::{AccessPlan, Caller, Expectations, Guard, LiveKeyring, Routes, Verifier, now};

use super::staff::Staff;
use crate::explain;

const FILES: [(&str, &str, &str); 5] = [
    ("style.css", "text/css; charset=utf-8", include_str!("style.css")),
    ("page.js", "text/javascript; charset=utf-8", include_str!("page.js")),
    ("token.js", "text/javascript; charset=utf-8", include_str!("token.js")),
    ("routes.js", "text/javascript; charset=utf-8", include_str!("routes.js")),
    // The very module that apps copy.
    ("session.js", "text/javascript; charset=utf-8", include_str!("../../../../../examples/browser/session.js")),
];

/// Nothing from elsewhere, nothing written into the page, and no other page around it.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src data:; \
                      base-uri 'none'; form-action 'none'; frame-ancestors 'none'";

/// What the page needs, beside the routes of the API.
const NEEDS: [(&str, &str); 9] = [
    ("GET", "/"),
    ("GET", "/page/page.js"),
    ("GET", "/me/reach"),
    ("GET", "/me/token"),
    ("GET", "/dome/live"),
    ("GET", "/oauth/sessions"),
    ("DELETE", "/oauth/sessions"),
    ("DELETE", "/oauth/sessions/one"),
    ("POST", "/oauth/ticket"),
];

/// Whether a plan has all that the page needs.
pub(super) fn is_in(plan: &AccessPlan) -> bool {
    NEEDS.iter().all(|(method, path)| plan.route_of(method, path).is_some())
}

pub(super) fn routes(guard: Guard<Staff>, keys: LiveKeyring, expectations: Expectations) -> Routes {
    let desk = Arc::new((keys, expectations));
    Routes::new()
        .route("/", get(index))
        .route("/page/{file}", get(file))
        .route("/me/reach", own_reach::<Staff, ()>(guard.plan()))
        .merge(Routes::new().route("/me/token", get(token)).with_state(desk))
        .merge(Routes::new().route("/dome/live", get(dome_live)).with_state(guard))
}

async fn index() -> Response {
    let headers = [
        (CONTENT_SECURITY_POLICY, POLICY),
        (REFERRER_POLICY, "no-referrer"),
        (X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (CACHE_CONTROL, "no-cache"),
    ];
    (headers, Html(include_str!("index.html"))).into_response()
}

async fn file(Path(name): Path<String>) -> Response {
    let Some((_, media_type, text)) = FILES.into_iter().find(|(known, ..)| *known == name) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let headers = [(CONTENT_TYPE, media_type), (X_CONTENT_TYPE_OPTIONS, "nosniff"), (CACHE_CONTROL, "no-cache")];
    (headers, text).into_response()
}

/// The caller's own token, explained as `vorsel explain` does.
async fn token(State(desk): State<Arc<(LiveKeyring, Expectations)>>, headers: HeaderMap) -> Response {
    let token = headers.get(AUTHORIZATION).and_then(|value| value.to_str().ok()?.split_once(' '));
    let Some((_, token)) = token else {
        return (StatusCode::BAD_REQUEST, Json(json!({ "expected": "a bearer token" }))).into_response();
    };
    let (keys, expectations) = &*desk;
    let verifier = Verifier::new(keys.current().key_set(), expectations.clone());
    let explained = explain::record(token.trim().as_bytes(), &verifier, now());
    ([(CACHE_CONTROL, "no-store")], Json(explained)).into_response()
}

/// Where the dome looks, once a second, for as long as the token stands that the ticket was made of.
async fn dome_live(
    State(guard): State<Guard<Staff>>,
    caller: Caller<Staff>,
) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let over = Box::pin(async move { guard.until_over(&caller).await });
    let lines = stream::unfold((Some(over), 0_u32), |(over, count)| async move {
        let mut over = over?;
        let pause = if count == 0 { Duration::ZERO } else { Duration::from_secs(1) };
        let event = tokio::select! {
            biased;
            finding = &mut over => return Some((Ok(Event::default().event("over").data(finding.check.code())), (None, count))),
            () = tokio::time::sleep(pause) => Event::default().data(json!({ "azimuth": (118 + count) % 360 }).to_string()),
        };
        Some((Ok(event), (Some(over), count + 1)))
    });
    Sse::new(lines).keep_alive(KeepAlive::default())
}
