//! The methods that a plan may name, and which entry answers which.

/// Every method that an entry of a plan may have ([RFC 9110 section 9](https://www.rfc-editor.org/rfc/rfc9110#section-9),
/// [RFC 5789](https://www.rfc-editor.org/rfc/rfc5789)).
pub const METHODS: [&str; 9] = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT"];

/// The methods whose entry decides a request with this one, the one that goes first in front. Without an entry of its own,
/// HEAD goes by that of GET: whoever may GET may ask for the head of it
/// ([RFC 9110 section 9.3.2](https://www.rfc-editor.org/rfc/rfc9110#section-9.3.2)).
pub fn entries_for(method: &str) -> impl Iterator<Item = &str> {
    [Some(method), (method == "HEAD").then_some("GET")].into_iter().flatten()
}
