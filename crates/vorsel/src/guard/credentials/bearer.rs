//! The bearer token in the `Authorization` header ([RFC 6750 section 2.1](https://www.rfc-editor.org/rfc/rfc6750#section-2.1)).

use http::header::AUTHORIZATION;
use vorsel_core::{Credential, Finding, Proven, Refusal};

use super::source::{Shown, Source};
use crate::guard::request::{RequestHead, Twice, only};

const EXPECTED: &str = "\"Bearer\", one space and one token";

#[derive(Debug)]
pub(in crate::guard) struct BearerHeader;

impl Source for BearerHeader {
    fn kind(&self) -> Credential {
        Credential::Bearer
    }

    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal> {
        let value = only(request, &AUTHORIZATION).map_err(|Twice| bad("more than one Authorization header"))?;
        let token = value.map_or(Ok(None), bearer_token)?;
        Ok(token.map(|token| Shown::Token(token, Proven::Nothing)))
    }

    fn explain(&self, token: &[u8], finding: Box<Finding>) -> Refusal {
        odd_token(token).unwrap_or(Refusal::BadToken(finding))
    }
}

/// The token, or nothing if the header is for another scheme. Whether its characters are those of a token is not looked at
/// here: [`odd_token`] does once it has been refused, since one that was seen before is known to be well written.
fn bearer_token(value: &[u8]) -> Result<Option<&[u8]>, Refusal> {
    // As nearly everybody writes it.
    if let Some(token) = value.strip_prefix(b"Bearer ")
        && token.first().is_some_and(|first| !first.is_ascii_whitespace())
    {
        return Ok(Some(token));
    }
    let end = value.iter().position(|byte| *byte == b' ').unwrap_or(value.len());
    let (scheme, token) = value.split_at(end);
    // The name of a scheme is case-insensitive (RFC 9110 section 11.1).
    if !scheme.eq_ignore_ascii_case(b"bearer") {
        return Ok(None);
    }
    let token = token.trim_ascii_start();
    if token.is_empty() { Err(bad("no token after the scheme")) } else { Ok(Some(token)) }
}

/// What is wrong with the header if what was refused is not even written as a token.
fn odd_token(token: &[u8]) -> Option<Refusal> {
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

    fn read(value: &[u8]) -> String {
        let token = bearer_token(value).map(|token| token.unwrap_or(b"none"));
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
            assert_eq!(read(value.as_bytes()), expected, "{value:?}");
        }
        assert_eq!(read(b"Bearer \xff"), "! a character that no token has");
    }
}
