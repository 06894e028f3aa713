//! Sessions of pages: the refresh token in a cookie that no script reads.

mod cookies;

use std::collections::BTreeSet;
use std::fmt;
use std::time::Duration;

use axum::Json;
use axum::response::Response;
use http::HeaderMap;
use http::request::Parts;
use serde_json::{Map, Value};

use super::address::Address;
use super::reply::{Refused, unkept};
use crate::guard::{Origin, SameSite};
use crate::sessions::TokenReply;
use cookies::{Cookie, Strictness, cookie_of};

/// How pages keep their sessions: the refresh token in a cookie (`HttpOnly`, `Secure`, `SameSite=Strict`) that browsers send to
/// paths of the endpoints alone, and that only pages of the app's own origins can use. The access token comes in the body, for the page to keep in
/// memory, or [in a cookie](Self::access_cookie) as well.
///
/// A client that runs in a browser is named here; the others get their refresh tokens in the body.
///
/// ```
/// use vorsel::endpoints::Browser;
///
/// let browser = Browser::new("https://hill.skarnhill.test", ["page"]).origin("https://desk.skarnhill.test");
/// assert_eq!(browser.clone().host_cookie().refresh_cookie_name(), "__Host-refresh");
/// ```
#[derive(Clone)]
#[must_use]
pub struct Browser {
    own: String,
    clients: BTreeSet<String>,
    others: Vec<String>,
    everywhere: bool,
    cross_site: bool,
    development: bool,
    access_cookie: bool,
}

impl Browser {
    /// Pages of `origin` (`https://hill.skarnhill.test`), under which the endpoints themselves are reached, and the clients that run in
    /// them.
    pub fn new(origin: impl Into<String>, clients: impl IntoIterator<Item = impl Into<String>>) -> Self {
        Self {
            own: origin.into(),
            clients: clients.into_iter().map(Into::into).collect(),
            others: Vec::new(),
            everywhere: false,
            cross_site: false,
            development: false,
            access_cookie: false,
        }
    }

    /// Another origin whose pages may sign in, renew and sign out. It has to be of the same site, unless
    /// [`danger_cross_site`](Self::danger_cross_site) is written.
    pub fn origin(mut self, origin: impl Into<String>) -> Self {
        self.others.push(origin.into());
        self
    }

    /// Gives the cookie the path `/` and a name that binds it to this host (`__Host-`), in place of the endpoints' own path: the
    /// neighbours of a host can't plant one then.
    pub const fn host_cookie(mut self) -> Self {
        self.everywhere = true;
        self
    }

    /// Puts the access token into a cookie too, in the place of the body; the guard has to [take it](crate::GuardBuilder::cookie) by
    /// [its name](Self::access_cookie_name).
    pub const fn access_cookie(mut self) -> Self {
        self.access_cookie = true;
        self
    }

    /// Sends cookies with requests from pages of other sites (`SameSite=None`), which more and more browsers refuse.
    pub const fn danger_cross_site(mut self) -> Self {
        self.cross_site = true;
        self
    }

    /// For development: pages and endpoints on two ports of this machine over plain http, with cookies that are not `Secure`. It refuses
    /// to start anywhere else.
    pub const fn danger_http_on_this_machine(mut self) -> Self {
        self.development = true;
        self
    }

    /// What the cookie with the refresh token is called.
    #[must_use]
    pub fn refresh_cookie_name(&self) -> &'static str {
        match (self.development, self.everywhere) {
            (true, _) => "refresh",
            (false, true) => "__Host-refresh",
            (false, false) => "__Secure-refresh",
        }
    }

    /// What the cookie with the access token is called, for the guard.
    #[must_use]
    pub fn access_cookie_name(&self) -> &'static str {
        if self.development { "access" } else { "__Host-access" }
    }

    #[cfg(feature = "password")]
    fn device_cookie_name(&self) -> &'static str {
        if self.development { "device" } else { "__Host-device" }
    }

    /// CORS with credentials for these origins, to be put around the whole app (`app.layer(…)`), so that their pages read refusals as well;
    /// preflights are answered by it.
    #[cfg(feature = "cors")]
    pub fn cors(&self) -> tower_http::cors::CorsLayer {
        use http::header::{ACCEPT, AUTHORIZATION, CONTENT_TYPE, RETRY_AFTER, WWW_AUTHENTICATE};
        use http::{HeaderValue, Method};
        let origins = self.others.iter().chain([&self.own]).filter_map(|origin| origin.to_lowercase().parse().ok());
        tower_http::cors::CorsLayer::new()
            .allow_origin(origins.collect::<Vec<HeaderValue>>())
            .allow_credentials(true)
            .allow_methods([Method::GET, Method::POST, Method::PUT, Method::PATCH, Method::DELETE])
            .allow_headers([ACCEPT, AUTHORIZATION, CONTENT_TYPE])
            .expose_headers([WWW_AUTHENTICATE, RETRY_AFTER])
            .max_age(Duration::from_secs(600))
    }

    /// Checks what was set up, for endpoints under these paths.
    pub(super) fn pages(self, paths: &[&str], keeps_for: Duration) -> Result<Pages, Vec<String>> {
        let mut problems = Vec::new();
        let mut same_site = SameSite::default();
        let own = Address::read("the origin of the endpoints' own pages", &self.own);
        let own = own.map_err(|problem| problems.push(problem)).ok();
        for origin in [&self.own].into_iter().chain(&self.others) {
            match (Origin::read(origin), Address::read("an origin of pages", origin)) {
                (Some(read), Ok(address)) if address.path.is_empty() => {
                    let is_plain = address.origin.starts_with("http://");
                    if self.development && !address.is_on_this_machine() {
                        problems.push(format!(
                            "expected origins of this machine with Browser::danger_http_on_this_machine, but found {origin:?}"
                        ));
                    } else if is_plain && !self.development {
                        problems.push(format!(
                            "expected https, or Browser::danger_http_on_this_machine for development, but found {origin:?}"
                        ));
                    }
                    if let Some(own) = own.as_ref().filter(|own| !own.is_same_site(&address) && !self.cross_site) {
                        problems.push(format!(
                            "expected origins of the site of {:?}, whose cookies other sites don't send, but found {origin:?}; \
                             Browser::danger_cross_site sends them from everywhere",
                            own.origin
                        ));
                    }
                    if origin == &self.own { same_site.own = Some(read) } else { same_site.trusted.push(read) }
                }
                _ => problems
                    .push(format!("expected an origin such as https://hill.skarnhill.test, but found {origin:?}")),
            }
        }
        if self.clients.is_empty() {
            problems.push("expected the name of a client that runs in a browser, but found none".to_owned());
        }
        if self.development && self.cross_site {
            problems.push("cookies for other sites have to be Secure, which those of development are not".to_owned());
        }
        if !problems.is_empty() {
            return Err(problems);
        }
        let path = if self.everywhere || self.development { "/".to_owned() } else { common_prefix(paths) };
        Ok(Pages { by: self, same_site, path, keeps_for })
    }
}

/// The longest path that all of them lie under: up to a slash, since a cookie's path is whole segments
/// ([RFC 6265 section 5.1.4](https://www.rfc-editor.org/rfc/rfc6265#section-5.1.4)).
fn common_prefix(paths: &[&str]) -> String {
    let Some((first, rest)) = paths.split_first() else { return "/".to_owned() };
    let slashes = first.match_indices('/').map(|(at, _)| at).chain([first.len()]);
    let is_common = |prefix: &&str| {
        let lies_under =
            |path: &&&str| **path == *prefix || path.strip_prefix(prefix).is_some_and(|rest| rest.starts_with('/'));
        rest.iter().filter(lies_under).count() == rest.len()
    };
    let longest = slashes.map(|at| &first[..at]).filter(is_common).max_by_key(|prefix| prefix.len());
    longest.filter(|prefix| !prefix.is_empty()).unwrap_or("/").to_owned()
}

/// What the endpoints do for pages.
pub(super) struct Pages {
    by: Browser,
    same_site: SameSite,
    path: String,
    keeps_for: Duration,
}

impl Pages {
    /// Whether the browser sends the refresh token to this path (RFC 6265 section 5.1.4).
    #[cfg(feature = "password")]
    pub(super) fn reaches(&self, path: &str) -> bool {
        let rest = path.strip_prefix(self.path.as_str());
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/') || self.path.ends_with('/'))
    }

    /// Whether this client runs in a browser.
    pub(super) fn has(&self, client_id: &str) -> bool {
        self.by.clients.contains(client_id)
    }

    /// Whether a page of the app's own has sent this: what a browser sends along, or is to keep, is not for others.
    pub(super) fn allows(&self, parts: &Parts) -> Result<(), Refused> {
        self.same_site.is_from_here(parts).map_err(|refusal| Refused::other_site(refusal.to_string()))
    }

    /// The refresh token that the browser sends along.
    pub(super) fn refresh_token(&self, headers: &HeaderMap) -> Result<Option<String>, Refused> {
        cookie_of(headers, self.by.refresh_cookie_name())
    }

    /// The access token that the browser sends along, if it is kept so.
    pub(super) fn access_token(&self, headers: &HeaderMap) -> Result<Option<String>, Refused> {
        if self.by.access_cookie { cookie_of(headers, self.by.access_cookie_name()) } else { Ok(None) }
    }

    /// The mark of the device.
    #[cfg(feature = "password")]
    pub(super) fn device_mark(&self, headers: &HeaderMap) -> Option<String> {
        cookie_of(headers, self.by.device_cookie_name()).ok().flatten()
    }

    /// The reply to a page: its cookies are set, and what they hold is not in the body.
    pub(super) fn reply(&self, reply: &TokenReply, members: Map<String, Value>) -> Response {
        let mut body = members;
        if !self.by.access_cookie {
            body.insert("access_token".to_owned(), reply.access_token.as_str().into());
        }
        body.insert("token_type".to_owned(), reply.token_type.into());
        body.insert("expires_in".to_owned(), reply.expires_in.into());
        if !reply.scope.is_empty() {
            body.insert("scope".to_owned(), reply.scope.as_str().into());
        }
        let mut response = unkept(Json(body));
        let access = (reply.access_token.as_str(), reply.expires_in);
        self.keep(response.headers_mut(), &reply.refresh_token, access);
        response
    }

    /// The cookies of a session that goes on.
    fn keep(&self, headers: &mut HeaderMap, refresh_token: &str, access: (&str, u64)) {
        self.set(headers, &self.refresh(refresh_token, self.keeps_for));
        if self.by.access_cookie {
            self.set(headers, &self.access(access.0, Duration::from_secs(access.1)));
        }
    }

    /// Takes the cookies of a session away that is over.
    pub(super) fn clear(&self, headers: &mut HeaderMap) {
        self.set(headers, &self.refresh("", Duration::ZERO));
        if self.by.access_cookie {
            self.set(headers, &self.access("", Duration::ZERO));
        }
    }

    #[cfg(feature = "password")]
    pub(super) fn keep_mark(&self, headers: &mut HeaderMap, mark: &str) {
        const YEAR: Duration = Duration::from_secs(365 * 86_400);
        let name = self.by.device_cookie_name();
        self.set(
            headers,
            &Cookie { name, value: mark, path: "/", lasts: YEAR, strictness: self.strictness(Strictness::Strict) },
        );
    }

    fn refresh<'c>(&'c self, value: &'c str, lasts: Duration) -> Cookie<'c> {
        let strictness = self.strictness(Strictness::Strict);
        Cookie { name: self.by.refresh_cookie_name(), value, path: &self.path, lasts, strictness }
    }

    /// Whoever follows a link from elsewhere is signed in as well.
    fn access<'c>(&self, value: &'c str, lasts: Duration) -> Cookie<'c> {
        let strictness = self.strictness(Strictness::Lax);
        Cookie { name: self.by.access_cookie_name(), value, path: "/", lasts, strictness }
    }

    const fn strictness(&self, usual: Strictness) -> Strictness {
        if self.by.cross_site { Strictness::None } else { usual }
    }

    fn set(&self, headers: &mut HeaderMap, cookie: &Cookie<'_>) {
        cookie.set(headers, !self.by.development);
    }
}

impl fmt::Debug for Browser {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Browser").field("origin", &self.own).field("clients", &self.clients).finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cookie_lies_at_the_common_prefix_in_whole_segments() {
        for (paths, expected) in [
            (&["/oauth/token", "/oauth/revoke"][..], "/oauth"),
            (&["/v1/auth/token", "/v1/auth/revoke"], "/v1/auth"),
            (&["/token", "/revoke"], "/"),
            (&["/oauth/token", "/oauth2/revoke"], "/"),
            (&["/oauth/token", "/oauth"], "/oauth"),
            (&["/oauth/token"], "/oauth/token"),
            (&[], "/"),
        ] {
            assert_eq!(common_prefix(paths), expected, "{paths:?}");
        }
    }

    #[test]
    fn what_browsers_would_not_do_is_refused_at_the_start() {
        let hill = || Browser::new("https://hill.skarnhill.test", ["page"]);
        let local = || Browser::new("http://localhost:8080", ["page"]);
        for (what, browser, count) in [
            ("usual", hill(), 0),
            ("a neighbour", hill().origin("https://desk.skarnhill.test"), 0),
            ("the same host, another port", hill().origin("https://hill.skarnhill.test:8443"), 0),
            ("another site", hill().origin("https://elsewhere.test"), 1),
            ("another site, written", hill().origin("https://elsewhere.test").danger_cross_site(), 0),
            ("plain http", Browser::new("http://hill.skarnhill.test", ["page"]), 2),
            ("http here", local(), 1),
            ("http here, for development", local().origin("http://localhost:5173").danger_http_on_this_machine(), 0),
            ("development elsewhere", hill().danger_http_on_this_machine(), 1),
            ("another name of this machine", local().origin("http://127.0.0.1:1").danger_http_on_this_machine(), 1),
            ("no client", Browser::new("https://hill.skarnhill.test", [""; 0]), 1),
            ("a path", hill().origin("https://desk.skarnhill.test/x"), 1),
            ("a star", hill().origin("*"), 1),
        ] {
            let problems = browser.pages(&["/oauth/token"], Duration::ZERO).err().unwrap_or_default();
            assert_eq!(problems.len(), count, "{what}: {problems:#?}");
        }
    }
}
