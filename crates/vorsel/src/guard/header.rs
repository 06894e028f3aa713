//! The bearer token in the `Authorization` header ([RFC 6750 section 2.1](https://www.rfc-editor.org/rfc/rfc6750#section-2.1)).

use http::HeaderMap;
use http::header::AUTHORIZATION;
use vorsel_core::Refusal;

const EXPECTED: &str = "\"Bearer\", one space and one token";

/// The token, or nothing if there is no such header or it is for another scheme. Whether its characters are those of a
/// token is not looked at here: [`odd_token`] does once it has been refused, since one that was seen before is known to be
/// well written.
pub(super) fn bearer_token(headers: &HeaderMap) -> Result<Option<&[u8]>, Refusal> {
    let mut values = headers.get_all(AUTHORIZATION).iter();
    let Some(value) = values.next() else { return Ok(None) };
    if values.next().is_some() {
        return Err(bad("more than one Authorization header"));
    }
    let value = value.as_bytes();
    // As nearly everybody writes it.
    if let Some(token) = value.strip_prefix(b"Bearer ")
        && token.first().is_some_and(|first| !first.is_ascii_whitespace())
    {
        return Ok(Some(token));
    }
    let end = value.iter().position(|byte| *byte == b' ').unwrap_or(value.len());
    let (scheme, token) = value.split_at(end);
    // The name of a scheme is read without case (RFC 9110 section 11.1).
    if !scheme.eq_ignore_ascii_case(b"bearer") {
        return Ok(None);
    }
    let token = token.trim_ascii_start();
    if token.is_empty() { Err(bad("no token after the scheme")) } else { Ok(Some(token)) }
}

/// What is wrong with the header if a token that was refused is none.
pub(super) fn odd_token(token: &[u8]) -> Option<Refusal> {
    let is_token_character = |byte: &u8| byte.is_ascii_alphanumeric() || b"-._~+/=".contains(byte);
    if token.len() > 7 && token[..7].eq_ignore_ascii_case(b"bearer ") {
        Some(bad("the scheme twice"))
    } else if token.iter().all(is_token_character) {
        None
    } else {
        Some(bad("a character that no token has"))
    }
}

fn bad(found: &str) -> Refusal {
    Refusal::BadHeader { header: "Authorization".to_owned(), expected: EXPECTED, found: found.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::HeaderValue;

    fn read(values: &[&[u8]]) -> String {
        let mut headers = HeaderMap::new();
        for value in values {
            headers.append(AUTHORIZATION, HeaderValue::from_bytes(value).expect("a header value"));
        }
        let token = bearer_token(&headers).map(|token| token.unwrap_or(b"none"));
        match token.and_then(|token| odd_token(token).map_or(Ok(token), Err)) {
            Ok(token) => String::from_utf8_lossy(token).into_owned(),
            Err(Refusal::BadHeader { found, .. }) => format!("! {found}"),
            Err(other) => panic!("{other}"),
        }
    }

    #[test]
    fn the_header_is_read_as_rfc_6750_writes_it() {
        for (value, expected) in [
            ("Bearer a.b.c", "a.b.c"),
            ("bearer a.b.c", "a.b.c"),
            ("BEARER a.b.c", "a.b.c"),
            ("Bearer   a.b.c", "a.b.c"),
            ("Basic dTpw", "none"),
            ("Bearers a.b.c", "none"),
            ("a.b.c", "none"),
            ("", "none"),
            ("Bearer", "! no token after the scheme"),
            ("Bearer ", "! no token after the scheme"),
            ("Bearer Bearer a.b.c", "! the scheme twice"),
            ("Bearer a.b.c d", "! a character that no token has"),
            ("Bearer a.b.c,Basic x", "! a character that no token has"),
            ("Bearer \"a.b.c\"", "! a character that no token has"),
        ] {
            assert_eq!(read(&[value.as_bytes()]), expected, "{value:?}");
        }
        assert_eq!(read(&[]), "none");
        assert_eq!(read(&[b"Bearer a", b"Bearer a"]), "! more than one Authorization header");
        assert_eq!(read(&[b"Bearer \xff"]), "! a character that no token has");
    }
}
