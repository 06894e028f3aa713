//! An access token in a cookie.

use http::header::COOKIE;
use vorsel_core::{Credential, Finding, Proven, Refusal};

use super::source::{Shown, Source};
use crate::guard::request::RequestHead;

/// The cookie of this name.
#[derive(Debug)]
pub(in crate::guard) struct CookieSource(pub(in crate::guard) String);

impl Source for CookieSource {
    fn kind(&self) -> Credential {
        Credential::Cookie
    }

    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal> {
        let token = cookie(request, &self.0)?;
        Ok(token.map(|token| Shown::Token(token, Proven::Nothing)))
    }

    fn explain(&self, _: &[u8], mut finding: Box<Finding>) -> Refusal {
        finding.found.push_str(&format!(", in the cookie {:?}", self.0));
        Refusal::BadToken(finding)
    }

    fn comes_unasked(&self) -> bool {
        true
    }
}

/// The value of the one cookie of that name ([RFC 6265 section 5.4](https://www.rfc-editor.org/rfc/rfc6265#section-5.4)).
/// Two of them are refused: a neighbouring site may have planted one, and nobody can tell which.
fn cookie<'r>(request: &'r dyn RequestHead, name: &str) -> Result<Option<&'r [u8]>, Refusal> {
    let bad = |found: &str| {
        let found = found.to_owned();
        Refusal::BadHeader { header: "Cookie".to_owned(), expected: "one cookie with one token", found }
    };
    let (mut found, mut count) = (None, 0);
    request.header(&COOKIE, &mut |value| {
        // Bytes, since what is wrong with another cookie is no reason not to see this one.
        for pair in value.split(|byte| *byte == b';').map(<[u8]>::trim_ascii) {
            if let Some(value) = pair.strip_prefix(name.as_bytes()).and_then(|rest| rest.strip_prefix(b"=")) {
                found = Some(value.strip_prefix(b"\"").and_then(|value| value.strip_suffix(b"\"")).unwrap_or(value));
                count += 1;
            }
        }
    });
    if count > 1 {
        return Err(bad("the cookie twice"));
    }
    match found {
        // A cookie that was cleared is no credential.
        Some(b"") | None => Ok(None),
        token => Ok(token),
    }
}
