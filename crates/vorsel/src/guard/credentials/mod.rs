//! Where credentials come from: a list of sources, each asked in turn.

mod api_key;
mod bearer;
mod cookie;
mod same_site;
mod source;
mod ticket;

use std::iter;

use http::HeaderMap;
use http::header::AUTHORIZATION;
use smallvec::SmallVec;
use vorsel_core::{Credential, Refusal};

use super::request::RequestHead;
pub(super) use api_key::ApiKeyHeader;
use bearer::BearerHeader;
pub(super) use cookie::CookieSource;
pub(crate) use same_site::{Origin, SameSite};
pub(super) use source::{Shown, Source};
pub(super) use ticket::TicketSource;

/// What a request brings with it, in the order of the sources.
pub(super) type Found<'s, 'r> = SmallVec<[(&'s dyn Source, Shown<'r>); 1]>;

/// The sources of one guard.
#[derive(Debug)]
pub(super) struct Sources {
    /// Beside the `Authorization` header, which is always looked at, and first.
    others: Vec<Box<dyn Source>>,
    same_site: SameSite,
}

impl Sources {
    /// The `Authorization` header alone.
    pub(super) fn new() -> Self {
        Self { others: Vec::new(), same_site: SameSite::default() }
    }

    /// Adds a source, in the place of the one of the same kind.
    pub(super) fn add(&mut self, source: impl Source + 'static) {
        self.others.retain(|known| known.kind() != source.kind());
        self.others.push(Box::new(source));
        self.others.sort_by_key(|source| source.kind());
    }

    pub(super) const fn same_site(&mut self) -> &mut SameSite {
        &mut self.same_site
    }

    /// The kinds that are looked for.
    pub(super) fn kinds(&self) -> impl Iterator<Item = Credential> {
        iter::once(Credential::Bearer).chain(self.others.iter().map(|source| source.kind()))
    }

    /// The token, where nothing else is looked for and there is one such header, written as nearly everybody does.
    #[inline]
    pub(super) fn bearer_alone<'r>(&self, headers: &'r HeaderMap) -> Option<&'r [u8]> {
        let is_there_once = headers.len() == headers.keys_len();
        if !is_there_once || !self.others.is_empty() {
            return None;
        }
        // To go along the few headers of a request is quicker than to hash the name.
        let (_, value) = headers.iter().find(|(name, _)| **name == AUTHORIZATION)?;
        value.as_bytes().strip_prefix(b"Bearer ")
    }

    /// The credentials of a request. If a browser has sent all of them of its own accord, the request has to come from the
    /// site itself.
    pub(super) fn find<'s, 'r>(&'s self, request: &'r dyn RequestHead) -> Result<Found<'s, 'r>, Refusal> {
        let mut found = Found::new();
        if let Some(shown) = BearerHeader.find(request)? {
            found.push((&BearerHeader as &dyn Source, shown));
        }
        for source in &self.others {
            if let Some(shown) = source.find(request)? {
                found.push((&**source, shown));
            }
        }
        if !found.is_empty() && found.iter().all(|(source, _)| source.comes_unasked()) {
            self.same_site.allows(request)?;
        }
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use http::request::Parts;
    use http::{HeaderName, Request};
    use vorsel_core::Proven;

    fn sources() -> Sources {
        let mut sources = Sources::new();
        sources.add(ApiKeyHeader(HeaderName::from_static("x-instrument-key")));
        sources.add(CookieSource("night".to_owned()));
        sources.add(TicketSource("ticket".to_owned()));
        let origin = |text| Origin::read(text).expect("an origin");
        sources.same_site().own = Some(origin("https://api.skarnhill.test:443"));
        sources.same_site().trusted.push(origin("https://desk.skarnhill.test"));
        sources
    }

    fn request(method: &str, lines: &[(&str, &str)]) -> Parts {
        let request = Request::builder().method(method);
        let request = lines.iter().fold(request, |request, (name, value)| request.header(*name, *value));
        request.body(()).expect("a request").into_parts().0
    }

    #[test]
    fn each_source_says_whether_it_applies() {
        for (lines, expected) in [
            (&[][..], ""),
            (&[("authorization", "Bearer a.b.c")], "bearer a.b.c"),
            (&[("cookie", "night=a.b.c")], "cookie a.b.c"),
            (&[("cookie", "x=1; night=a.b.c; nights=2")], "cookie a.b.c"),
            (&[("cookie", "x=1"), ("cookie", "night=\"a.b.c\"")], "cookie a.b.c"),
            (&[("cookie", "night=")], ""),
            (&[("x-instrument-key", "k")], "api-key k"),
            (
                &[("x-instrument-key", "k"), ("authorization", "Bearer a"), ("cookie", "night=b")],
                "bearer a, cookie b, api-key k",
            ),
            (&[("authorization", "Bearer a"), ("authorization", "Bearer a")], "! more than one Authorization header"),
            (&[("cookie", "night=a; night=a")], "! the cookie twice"),
            (&[("cookie", "night=a"), ("cookie", "night=b")], "! the cookie twice"),
            (&[("x-instrument-key", "k"), ("x-instrument-key", "k")], "! the header twice"),
            (&[("x-instrument-key", "")], "! no key"),
        ] {
            let seen = match sources().find(&request("GET", lines)) {
                Ok(found) => {
                    let shown = found.iter().map(|(source, shown)| match shown {
                        Shown::Token(token, Proven::Nothing) => {
                            format!("{} {}", source.kind(), String::from_utf8_lossy(token))
                        }
                        Shown::Token(..) => "something proven".to_owned(),
                        Shown::ApiKey(text) | Shown::Ticket(text) => format!("{} {text}", source.kind()),
                    });
                    shown.collect::<Vec<_>>().join(", ")
                }
                Err(Refusal::BadHeader { found, .. }) => format!("! {found}"),
                Err(other) => format!("! {other}"),
            };
            assert_eq!(seen, expected, "{lines:?}");
        }
    }

    #[test]
    fn a_ticket_stands_in_the_query_of_a_request_that_opens_something() {
        for (method, uri, expected) in [
            ("GET", "/live", "none"),
            ("GET", "/live?ticket=abc", "abc"),
            ("CONNECT", "/live?x=1&ticket=abc&y", "abc"),
            ("GET", "/live?ticket=", ""),
            ("GET", "/live?tickets=abc&my-ticket=abc&ticket", "none"),
            ("POST", "/live?ticket=abc", "none"),
            ("HEAD", "/live?ticket=abc", "none"),
            ("GET", "/live?ticket=abc&ticket=abc", "! two"),
        ] {
            let (parts, ()) = Request::builder().method(method).uri(uri).body(()).expect("a request").into_parts();
            let found = match sources().find(&parts).as_deref() {
                Ok([(source, Shown::Ticket(ticket))]) if source.kind() == Credential::Ticket => (*ticket).to_owned(),
                Ok([]) => "none".to_owned(),
                Err(Refusal::BadTicket { found }) => format!("! {found}"),
                other => panic!("{other:?}"),
            };
            assert_eq!(found, expected, "{method} {uri}");
        }
    }

    #[test]
    fn a_cookie_alone_changes_nothing_for_another_site() {
        const HERE: [(&str, &str); 2] = [("origin", "https://api.skarnhill.test"), ("host", "api.skarnhill.test")];
        const ELSEWHERE: [(&str, &str); 2] = [("origin", "https://elsewhere.test"), ("host", "api.skarnhill.test")];
        const DESK: (&str, &str) = ("origin", "https://desk.skarnhill.test");
        const SOCKET: (&str, &str) = ("upgrade", "websocket");
        const BEARER: (&str, &str) = ("authorization", "Bearer a.b.c");
        let site = |site| ("sec-fetch-site", site);
        for (method, lines, passes) in [
            ("GET", vec![], true),
            ("POST", vec![], false),
            ("POST", vec![site("same-origin")], true),
            ("POST", vec![site("none")], true),
            ("POST", vec![site("same-site")], false),
            ("POST", vec![site("cross-site")], false),
            ("POST", HERE.to_vec(), true),
            ("POST", vec![HERE[0]], true),
            ("POST", vec![("origin", "https://API.skarnhill.test:443")], true),
            ("POST", vec![("origin", "http://api.skarnhill.test"), HERE[1]], false),
            ("POST", vec![("origin", "https://api.skarnhill.test:8443"), HERE[1]], false),
            ("POST", vec![HERE[0], ("cookie", "other=\u{e9}")], true),
            ("POST", ELSEWHERE.to_vec(), false),
            ("POST", vec![("origin", "null"), HERE[1]], false),
            ("POST", vec![("origin", "null")], false),
            ("POST", vec![site("same-site"), DESK], true),
            ("DELETE", [vec![site("cross-site")], HERE.to_vec()].concat(), false),
            ("POST", vec![BEARER], true),
            ("POST", vec![("x-instrument-key", "k")], true),
            ("GET", vec![SOCKET], false),
            ("GET", vec![SOCKET, site("cross-site")], false),
            ("GET", vec![SOCKET, site("same-origin")], true),
            ("GET", [vec![SOCKET], ELSEWHERE.to_vec()].concat(), false),
            ("GET", vec![SOCKET, DESK], true),
            ("GET", vec![SOCKET, BEARER], true),
            ("CONNECT", ELSEWHERE.to_vec(), false),
            ("CONNECT", vec![site("same-origin")], true),
        ] {
            let lines = [lines, vec![("cookie", "night=a.b.c")]].concat();
            assert_eq!(sources().find(&request(method, &lines)).is_ok(), passes, "{method} {lines:?}");
        }
    }
}
