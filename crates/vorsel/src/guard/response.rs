//! The guard's answer as an HTTP response, and as gRPC has it.

use bytes::Bytes;
use http::header::{ALLOW, CACHE_CONTROL, CONTENT_TYPE, WWW_AUTHENTICATE};
use http::{HeaderMap, HeaderName, HeaderValue, Response, StatusCode, Version};
use http_body_util::Full;
use vorsel_core::{Answer, Challenge, Refusal, Stop};

use super::request::Passing;

/// In the extensions of an answer that the guard gave: why the request did not get to its handler. For the app's own layers;
/// nothing of it crosses the wire.
///
/// ```
/// use vorsel::StopCode;
///
/// /// What a layer around the guard may count.
/// fn code<B>(response: &http::Response<B>) -> Option<&'static str> {
///     response.extensions().get::<StopCode>().map(|code| code.0)
/// }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StopCode(
    /// The code as in the log: `no-credential`, `expired`, `rule-not-met`.
    pub &'static str,
);

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
pub(super) fn is_grpc(request: &dyn Passing) -> bool {
    let kind = request.headers().get(CONTENT_TYPE).map(HeaderValue::as_bytes);
    let rest = kind.and_then(|kind| kind.strip_prefix(b"application/grpc"));
    request.method() == "POST"
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
