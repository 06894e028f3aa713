//! An access token in a cookie, and the rule that keeps other sites from using it.

use http::header::{COOKIE, HOST, ORIGIN, UPGRADE};
use http::{HeaderName, Method};
use vorsel_core::{Credential, Proven, Refusal};

use super::source::{Shown, Source};
use crate::guard::request::{RequestHead, Twice, has, only};

/// The cookie of this name.
#[derive(Debug)]
pub(in crate::guard) struct CookieSource(pub(in crate::guard) String);

impl Source for CookieSource {
    fn kind(&self) -> Credential {
        Credential::Cookie
    }

    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal> {
        let token = cookie(request, &self.0)?;
        Ok(token.map(|token| Shown::Token(token.as_bytes(), Proven::Nothing)))
    }

    fn comes_unasked(&self) -> bool {
        true
    }
}

static SEC_FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");

/// Which requests may go by what a browser sends of its own accord, wherever a page of another site posts to.
#[derive(Debug, Default)]
pub(in crate::guard) struct SameSite {
    /// Other origins whose pages may use it.
    trusted: Vec<String>,
}

impl SameSite {
    pub(super) fn trust(&mut self, origins: &[&str]) {
        self.trusted.extend(origins.iter().map(|origin| (*origin).to_owned()));
    }

    /// Anybody may only read. A browser does not keep a page of another site from opening a web socket and reading what comes
    /// over it, be it by the upgrade of a GET or, in HTTP/2, by a CONNECT (RFC 6455 section 10.2, RFC 8441 section 4).
    pub(super) fn allows(&self, request: &dyn RequestHead) -> Result<(), Refusal> {
        let is_safe = Method::from_bytes(request.method().as_bytes()).is_ok_and(|method| method.is_safe());
        if is_safe && !has(request, &UPGRADE) { Ok(()) } else { self.is_from_here(request) }
    }

    /// Whether the browser says that the request comes from the site itself, or from one that is trusted: by fetch
    /// metadata, or in older browsers by the origin.
    fn is_from_here(&self, request: &dyn RequestHead) -> Result<(), Refusal> {
        let text = |name: &HeaderName| match only(request, name) {
            Ok(value) => value.map(|value| std::str::from_utf8(value).unwrap_or("bytes that are not ASCII")),
            Err(Twice) => Some("several values"),
        };
        let (site, origin) = (text(&SEC_FETCH_SITE), text(&ORIGIN));
        if origin.is_some_and(|origin| self.trusted.iter().any(|trusted| trusted == origin)) {
            return Ok(());
        }
        let is_own = match (site, origin) {
            (Some(site), _) => matches!(site, "same-origin" | "none"),
            (None, Some(origin)) => {
                let host = origin.split_once("://").map(|(_, host)| host);
                host.is_some() && host == text(&HOST)
            }
            (None, None) => false,
        };
        if is_own {
            return Ok(());
        }
        let found = match (site, origin) {
            (Some(site), Some(origin)) => format!("Sec-Fetch-Site {site:?} and Origin {origin:?}"),
            (Some(site), None) => format!("Sec-Fetch-Site {site:?}"),
            (None, Some(origin)) => format!("Origin {origin:?}"),
            (None, None) => "neither Sec-Fetch-Site nor Origin".to_owned(),
        };
        Err(Refusal::OtherSite { found })
    }
}

/// The value of the one cookie of that name ([RFC 6265 section 5.4](https://www.rfc-editor.org/rfc/rfc6265#section-5.4)).
/// Two of them are refused: a neighbouring site may have planted one, and nobody can tell which.
fn cookie<'r>(request: &'r dyn RequestHead, name: &str) -> Result<Option<&'r str>, Refusal> {
    let bad = |found: &str| {
        let found = found.to_owned();
        Refusal::BadHeader { header: "Cookie".to_owned(), expected: "one cookie with one token", found }
    };
    let (mut found, mut count) = (None, 0);
    request.header(&COOKIE, &mut |value| {
        let pairs = std::str::from_utf8(value).unwrap_or_default().split(';');
        for (_, value) in pairs.filter_map(|pair| pair.trim().split_once('=')).filter(|(key, _)| *key == name) {
            found = Some(value.trim_matches('"'));
            count += 1;
        }
    });
    if count > 1 {
        return Err(bad("the cookie twice"));
    }
    match found {
        // A cookie that was cleared is no credential.
        Some("") | None => Ok(None),
        token => Ok(token),
    }
}
