//! The rule that keeps pages of other sites from using what a browser sends of its own accord.

use http::header::{ORIGIN, UPGRADE};
use http::{HeaderName, Method};
use vorsel_core::Refusal;

use crate::guard::request::{RequestHead, Twice, has, only, shown};

static SEC_FETCH_SITE: HeaderName = HeaderName::from_static("sec-fetch-site");

/// Which requests may go by what a browser sends of its own accord, wherever a page of another site posts to.
#[derive(Debug, Default)]
pub(crate) struct SameSite {
    /// What the site itself is called.
    pub(crate) own: Option<Origin>,
    /// Other origins whose pages may use it.
    pub(crate) trusted: Vec<Origin>,
}

/// An origin as browsers write it: in lower case, and without the port that the scheme has anyway
/// ([RFC 6454 section 6.2](https://www.rfc-editor.org/rfc/rfc6454#section-6.2)).
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Origin(String);

impl Origin {
    /// Reads one of a web page.
    pub(crate) fn read(text: &str) -> Option<Self> {
        let text = text.to_ascii_lowercase();
        let (scheme, host) = text.split_once("://")?;
        let port = match scheme {
            "https" => ":443",
            "http" => ":80",
            _ => return None,
        };
        let host = host.strip_suffix(port).unwrap_or(host);
        let is_host = !host.is_empty() && !host.contains(['/', '?', '#', '@', ' ']);
        is_host.then(|| Self(format!("{scheme}://{host}")))
    }
}

impl SameSite {
    /// Anybody may only read. A browser does not keep a page of another site from opening a web socket and reading what comes
    /// over it, be it by the upgrade of a GET or, in HTTP/2, by a CONNECT (RFC 6455 section 10.2, RFC 8441 section 4).
    pub(super) fn allows(&self, request: &dyn RequestHead) -> Result<(), Refusal> {
        let is_safe = Method::from_bytes(request.method().as_bytes()).is_ok_and(|method| method.is_safe());
        if is_safe && !has(request, &UPGRADE) { Ok(()) } else { self.is_from_here(request) }
    }

    /// Whether the browser says that the request comes from the site itself, or from one that is trusted: by fetch
    /// metadata, or in older browsers by the origin.
    pub(crate) fn is_from_here(&self, request: &dyn RequestHead) -> Result<(), Refusal> {
        let text = |name: &HeaderName| match only(request, name) {
            Ok(value) => value.map(|value| std::str::from_utf8(value).unwrap_or("bytes that are not ASCII")),
            Err(Twice) => Some("several values"),
        };
        let (site, origin) = (text(&SEC_FETCH_SITE), text(&ORIGIN));
        let comes_from = origin.and_then(Origin::read);
        let is_trusted = comes_from.as_ref().is_some_and(|origin| self.trusted.contains(origin));
        // Without fetch metadata only a name that was set up can be held against the origin: `Host` has no scheme, and
        // whoever stands in between may have written it.
        let is_own = match site {
            Some(site) => matches!(site, "same-origin" | "none"),
            None => comes_from.is_some() && comes_from == self.own,
        };
        if is_trusted || is_own {
            return Ok(());
        }
        let [site, origin] = [site, origin].map(|text| text.map(shown));
        let found = match (site, origin) {
            (Some(site), Some(origin)) => format!("Sec-Fetch-Site {site} and Origin {origin}"),
            (Some(site), None) => format!("Sec-Fetch-Site {site}"),
            (None, Some(origin)) if self.own.is_none() => {
                format!("Origin {origin}, no Sec-Fetch-Site, and no own origin is set up")
            }
            (None, Some(origin)) => format!("Origin {origin}"),
            (None, None) => "neither Sec-Fetch-Site nor Origin".to_owned(),
        };
        Err(Refusal::OtherSite { found })
    }
}
