//! The guard's answer as an HTTP response, and as gRPC has it.

use bytes::Bytes;
use http::header::{ALLOW, AUTHORIZATION, CACHE_CONTROL, CONTENT_TYPE, WWW_AUTHENTICATE};
use http::{HeaderMap, HeaderName, HeaderValue, Method, Request, Response, StatusCode, Version};
use http_body_util::Full;
use vorsel_core::{Answer, Challenge, Refusal, Stop};

use super::request::RequestHead;

/// The answer as a response. The values are ASCII by the answer's making; one that were not is left out.
pub(super) fn response(answer: Answer) -> Response<Full<Bytes>> {
    let has_body = answer.problem.is_some();
    let mut response = Response::new(Full::from(answer.problem.unwrap_or_default()));
    *response.status_mut() = StatusCode::from_u16(answer.status).unwrap_or(StatusCode::FORBIDDEN);
    let headers = response.headers_mut();
    if has_body {
        headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
    }
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    challenge(headers, &answer.challenges);
    if let Some(methods) = answer.allow.and_then(|methods| HeaderValue::try_from(methods).ok()) {
        headers.insert(ALLOW, methods);
    }
    response
}

/// Whether the request is one of gRPC, whose clients look for the outcome in headers of their own
/// ([gRPC over HTTP/2](https://github.com/grpc/grpc/blob/master/doc/PROTOCOL-HTTP2.md)): a POST over HTTP/2 of its own
/// type. Anybody else would take the answer for a success.
pub(super) fn is_grpc<B>(request: &Request<B>) -> bool {
    let kind = request.headers().get(CONTENT_TYPE).map(HeaderValue::as_bytes);
    let rest = kind.and_then(|kind| kind.strip_prefix(b"application/grpc"));
    request.method() == Method::POST
        && request.version() == Version::HTTP_2
        && rest.is_some_and(|rest| matches!(rest.first(), None | Some(b'+' | b';')))
}

/// The answer as a gRPC response without messages: the call's status in the headers, HTTP's own is 200.
pub(super) fn grpc_response(stop: &Stop, answer: Answer) -> Response<Full<Bytes>> {
    let (code, message) = match answer.status {
        404 if matches!(stop, Stop::Refused(Refusal::Hidden(_))) => (5, "not found"),
        401 => (16, "unauthenticated"),
        403 => (7, "permission denied"),
        404 | 405 => (12, "unimplemented"),
        503 => (14, "unavailable"),
        _ => (3, "invalid argument"),
    };
    let mut response = Response::new(Full::default());
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static("application/grpc"));
    headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    headers.insert(HeaderName::from_static("grpc-status"), HeaderValue::from(code));
    headers.insert(HeaderName::from_static("grpc-message"), HeaderValue::from_static(message));
    challenge(headers, &answer.challenges);
    response
}

fn challenge(headers: &mut HeaderMap, challenges: &[Challenge]) {
    for value in challenges.iter().filter_map(|challenge| HeaderValue::try_from(challenge.to_string()).ok()) {
        headers.append(WWW_AUTHENTICATE, value);
    }
}

/// One event for each request that does not reach its handler.
pub(super) fn log<B>(stop: &Stop, status: u16, request: &Request<B>, knows_routes: bool) {
    let (code, method, path) = (stop.code(), request.method().as_str(), cut(request.path()));
    match stop {
        Stop::Preflight | Stop::Options { .. } => {
            tracing::debug!(target: "vorsel::guard", code, status, method, path, "{stop}");
        }
        // Either the plan lacks a route or somebody tries paths. Where the routes are known, it is the latter.
        Stop::Refused(Refusal::NoRule { .. }) if !knows_routes => {
            tracing::error!(target: "vorsel::guard", code, status, method, path, "{stop}");
        }
        Stop::Refused(Refusal::Unanswered { .. }) => {
            tracing::error!(target: "vorsel::guard", code, status, method, path, "{stop}");
        }
        Stop::Refused(Refusal::NoCredential) => {
            let hint = misplaced(request).unwrap_or_default();
            tracing::info!(target: "vorsel::guard", code, status, method, path, "{stop}{hint}");
        }
        _ => tracing::info!(target: "vorsel::guard", code, status, method, path, "{stop}"),
    }
}

/// How much of a path a log shows.
const LONGEST_PATH: usize = 200;

fn cut(path: &str) -> &str {
    path.char_indices().nth(LONGEST_PATH).map_or(path, |(end, _)| &path[..end])
}

/// What a request without a credential has where one may have been meant.
fn misplaced<B>(request: &Request<B>) -> Option<&'static str> {
    if request.headers().contains_key(AUTHORIZATION) {
        return Some("; its Authorization header has another scheme than Bearer");
    }
    let query = request.uri().query()?;
    let in_query = query.split('&').any(|pair| pair.starts_with("access_token="));
    in_query.then_some("; its query has an access_token, which is never read (RFC 9700 section 4.3.2)")
}
