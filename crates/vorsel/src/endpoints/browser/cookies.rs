//! Cookies ([RFC 6265](https://www.rfc-editor.org/rfc/rfc6265)), set and read.

use std::time::Duration;

use http::HeaderMap;
use http::header::{COOKIE, SET_COOKIE};

use crate::endpoints::reply::Refused;

/// From whose pages a browser sends a cookie along.
#[derive(Clone, Copy, Debug)]
pub(super) enum Strictness {
    Strict,
    Lax,
    None,
}

/// A cookie that no script reads.
pub(super) struct Cookie<'c> {
    pub(super) name: &'static str,
    /// Letters, digits, dots, `-` and `_`.
    pub(super) value: &'c str,
    pub(super) path: &'c str,
    /// No time takes it away.
    pub(super) lasts: Duration,
    pub(super) strictness: Strictness,
}

impl Cookie<'_> {
    pub(super) fn set(&self, headers: &mut HeaderMap, is_secure: bool) {
        let Self { name, value, path, lasts, strictness } = self;
        let secure = if is_secure { "; Secure" } else { "" };
        let (lasts, site) = (lasts.as_secs(), format!("{strictness:?}"));
        let text = format!("{name}={value}; Path={path}; Max-Age={lasts}; HttpOnly{secure}; SameSite={site}");
        // Paths and tokens are visible ASCII.
        if let Ok(text) = text.parse() {
            headers.append(SET_COOKIE, text);
        }
    }
}

/// The one cookie of this name; an empty one is none. Of two nobody can tell which one a neighbour has planted.
pub(super) fn cookie_of(headers: &HeaderMap, name: &str) -> Result<Option<String>, Refused> {
    let lines = headers.get_all(COOKIE).iter().filter_map(|line| line.to_str().ok());
    let pairs = lines.flat_map(|line| line.split(';')).map(str::trim);
    let mut values =
        pairs.filter_map(|pair| pair.split_once('=').filter(|(known, _)| *known == name)).map(|pair| pair.1);
    match (values.next(), values.next()) {
        (_, Some(_)) => Err(Refused::request(format!("expected the cookie {name} once, but found it twice"))),
        (found, None) => Ok(found.filter(|value| !value.is_empty()).map(str::to_owned)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cookie_is_read_once_and_set_with_all_that_guards_it() {
        for (line, expected) in [
            ("refresh=a.b.c", Ok(Some("a.b.c"))),
            ("x=1; refresh=a; y=2", Ok(Some("a"))),
            ("refreshed=a", Ok(None)),
            ("refresh=", Ok(None)),
            ("", Ok(None)),
            ("refresh=a; refresh=a", Err(())),
        ] {
            let mut headers = HeaderMap::new();
            headers.append(COOKIE, line.parse().expect("a header"));
            let found = cookie_of(&headers, "refresh").map_err(drop);
            assert_eq!(found.as_ref().map(Option::as_deref), expected.as_ref().map(|value| *value), "{line:?}");
        }
        let mut headers = HeaderMap::new();
        let cookie = Cookie {
            name: "__Host-x",
            value: "a",
            path: "/",
            lasts: Duration::from_secs(5),
            strictness: Strictness::Lax,
        };
        cookie.set(&mut headers, true);
        assert_eq!(headers[SET_COOKIE], "__Host-x=a; Path=/; Max-Age=5; HttpOnly; Secure; SameSite=Lax");
    }
}
