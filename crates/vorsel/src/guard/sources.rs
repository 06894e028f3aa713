//! Where credentials come from, in order: the `Authorization` header, a cookie, a header with an API key.

use http::header::{COOKIE, HOST, ORIGIN, UPGRADE};
use http::{HeaderMap, HeaderName, Method};
use vorsel_core::Refusal;

use super::header::bearer_token;

/// A longer API key is not looked up.
const LONGEST_API_KEY: usize = 512;

/// Where a guard looks for credentials besides the `Authorization` header.
#[derive(Clone, Debug, Default)]
pub(super) struct Sources {
    /// The name of the cookie with an access token.
    pub(super) cookie: Option<String>,
    /// Other origins whose requests may go by the cookie.
    pub(super) origins: Vec<String>,
    pub(super) api_key: Option<HeaderName>,
}

/// What a request brings with it.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Presented<'r> {
    pub(super) bearer: Option<&'r [u8]>,
    pub(super) cookie: Option<&'r str>,
    pub(super) api_key: Option<&'r str>,
}

impl Sources {
    /// The credentials of a request. Each source says whether it applies.
    pub(super) fn present<'r>(&self, method: &Method, headers: &'r HeaderMap) -> Result<Presented<'r>, Refusal> {
        let bearer = bearer_token(headers)?;
        let cookie = self.cookie.as_deref().map_or(Ok(None), |name| cookie(headers, name))?;
        let api_key = self.api_key.as_ref().map_or(Ok(None), |name| api_key(headers, name))?;
        // A browser sends a cookie wherever a page of another site posts to; it does not so send the other two. Nor does it
        // keep such a page from opening a web socket and reading what comes over it, be it by the upgrade of a GET or, in
        // HTTP/2, by a CONNECT (RFC 6455 section 10.2, RFC 8441 section 4).
        if cookie.is_some() && bearer.is_none() && api_key.is_none() {
            let only_reads = method.is_safe() && !headers.contains_key(UPGRADE);
            if !only_reads {
                self.is_from_here(headers)?;
            }
        }
        Ok(Presented { bearer, cookie, api_key })
    }

    /// Whether the browser says that the request comes from the site itself, or from one that is trusted: by fetch
    /// metadata, or in older browsers by the origin.
    fn is_from_here(&self, headers: &HeaderMap) -> Result<(), Refusal> {
        let text =
            |name: HeaderName| headers.get(name).map(|value| value.to_str().unwrap_or("bytes that are not ASCII"));
        let (site, origin) = (text(HeaderName::from_static("sec-fetch-site")), text(ORIGIN));
        if origin.is_some_and(|origin| self.origins.iter().any(|trusted| trusted == origin)) {
            return Ok(());
        }
        let is_own = match (site, origin) {
            (Some(site), _) => matches!(site, "same-origin" | "none"),
            (None, Some(origin)) => {
                let host = origin.split_once("://").map(|(_, host)| host);
                host.is_some() && host == text(HOST)
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
fn cookie<'r>(headers: &'r HeaderMap, name: &str) -> Result<Option<&'r str>, Refusal> {
    let bad = |found: &str| {
        let found = found.to_owned();
        Refusal::BadHeader { header: "Cookie".to_owned(), expected: "one cookie with one token", found }
    };
    let mut found = None;
    for value in headers.get_all(COOKIE) {
        let Ok(value) = value.to_str() else { continue };
        for pair in value.split(';') {
            let Some((key, value)) = pair.trim().split_once('=') else { continue };
            if key != name {
                continue;
            }
            if found.replace(value.trim_matches('"')).is_some() {
                return Err(bad("the cookie twice"));
            }
        }
    }
    match found {
        // A cookie that was cleared is no credential.
        Some("") | None => Ok(None),
        token => Ok(token),
    }
}

fn api_key<'r>(headers: &'r HeaderMap, name: &HeaderName) -> Result<Option<&'r str>, Refusal> {
    let bad = |found: &str| {
        let (header, found) = (name.to_string(), found.to_owned());
        Refusal::BadHeader { header, expected: "one API key", found }
    };
    let mut values = headers.get_all(name).iter();
    let Some(value) = values.next() else { return Ok(None) };
    if values.next().is_some() {
        return Err(bad("the header twice"));
    }
    match value.to_str() {
        Err(_) => Err(bad("bytes that are not ASCII")),
        Ok("") => Err(bad("no key")),
        Ok(key) if key.len() > LONGEST_API_KEY => Err(bad("a key of more than 512 bytes")),
        Ok(key) => Ok(Some(key)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sources() -> Sources {
        Sources {
            cookie: Some("night".to_owned()),
            origins: vec!["https://desk.skarnhill.test".to_owned()],
            api_key: Some(HeaderName::from_static("x-instrument-key")),
        }
    }

    fn headers(lines: &[(&'static str, &'static str)]) -> HeaderMap {
        lines.iter().map(|(name, value)| (HeaderName::from_static(name), value.parse().expect("a value"))).collect()
    }

    #[test]
    fn each_source_says_whether_it_applies() {
        for (lines, expected) in [
            (&[][..], "none none none"),
            (&[("authorization", "Bearer a.b.c")], "a.b.c none none"),
            (&[("cookie", "night=a.b.c")], "none a.b.c none"),
            (&[("cookie", "x=1; night=a.b.c; nights=2")], "none a.b.c none"),
            (&[("cookie", "x=1"), ("cookie", "night=\"a.b.c\"")], "none a.b.c none"),
            (&[("cookie", "night=")], "none none none"),
            (&[("x-instrument-key", "k")], "none none k"),
            (&[("authorization", "Bearer a"), ("cookie", "night=b"), ("x-instrument-key", "k")], "a b k"),
            (&[("cookie", "night=a; night=a")], "! the cookie twice in Cookie"),
            (&[("cookie", "night=a"), ("cookie", "night=b")], "! the cookie twice in Cookie"),
            (&[("x-instrument-key", "k"), ("x-instrument-key", "k")], "! the header twice in x-instrument-key"),
            (&[("x-instrument-key", "")], "! no key in x-instrument-key"),
        ] {
            let headers = {
                let mut map = HeaderMap::new();
                for (name, value) in lines {
                    map.append(*name, value.parse().expect("a value"));
                }
                map
            };
            let seen = match sources().present(&Method::GET, &headers) {
                Ok(Presented { bearer, cookie, api_key }) => {
                    let bearer = bearer.map(|token| String::from_utf8_lossy(token).into_owned());
                    [bearer.as_deref(), cookie, api_key].map(|value| value.unwrap_or("none")).join(" ")
                }
                Err(Refusal::BadHeader { header, found, .. }) => format!("! {found} in {header}"),
                Err(other) => format!("! {other}"),
            };
            assert_eq!(seen, expected, "{lines:?}");
        }
    }

    #[test]
    fn a_cookie_alone_changes_nothing_for_another_site() {
        let cookie = ("cookie", "night=a.b.c");
        for (method, lines, passes) in [
            (Method::GET, vec![], true),
            (Method::POST, vec![], false),
            (Method::POST, vec![("sec-fetch-site", "same-origin")], true),
            (Method::POST, vec![("sec-fetch-site", "none")], true),
            (Method::POST, vec![("sec-fetch-site", "same-site")], false),
            (Method::POST, vec![("sec-fetch-site", "cross-site")], false),
            (Method::POST, vec![("origin", "https://api.skarnhill.test"), ("host", "api.skarnhill.test")], true),
            (Method::POST, vec![("origin", "https://elsewhere.test"), ("host", "api.skarnhill.test")], false),
            (Method::POST, vec![("origin", "null"), ("host", "api.skarnhill.test")], false),
            (Method::POST, vec![("origin", "null")], false),
            (Method::POST, vec![("sec-fetch-site", "same-site"), ("origin", "https://desk.skarnhill.test")], true),
            (
                Method::DELETE,
                vec![
                    ("sec-fetch-site", "cross-site"),
                    ("origin", "https://api.skarnhill.test"),
                    ("host", "api.skarnhill.test"),
                ],
                false,
            ),
            (Method::POST, vec![("authorization", "Bearer a.b.c")], true),
            (Method::GET, vec![("upgrade", "websocket")], false),
            (Method::GET, vec![("upgrade", "websocket"), ("sec-fetch-site", "cross-site")], false),
            (Method::GET, vec![("upgrade", "websocket"), ("sec-fetch-site", "same-origin")], true),
            (
                Method::GET,
                vec![("upgrade", "websocket"), ("origin", "https://elsewhere.test"), ("host", "api.skarnhill.test")],
                false,
            ),
            (Method::GET, vec![("upgrade", "websocket"), ("origin", "https://desk.skarnhill.test")], true),
            (Method::GET, vec![("upgrade", "websocket"), ("authorization", "Bearer a.b.c")], true),
            (Method::CONNECT, vec![("origin", "https://elsewhere.test"), ("host", "api.skarnhill.test")], false),
            (Method::CONNECT, vec![("sec-fetch-site", "same-origin")], true),
        ] {
            let lines: Vec<_> = lines.into_iter().chain([cookie]).collect();
            assert_eq!(sources().present(&method, &headers(&lines)).is_ok(), passes, "{method} {lines:?}");
        }
    }
}
