//! What the endpoints are set up with, and what they share.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::sync::{Arc, Once};
use std::time::Duration;

use serde::Serialize;
use serde_json::{Map, Value};
use tokio::sync::Semaphore;
use vorsel_core::{Expectations, Kind};

use super::address::{Address, EndpointsError, RESOURCE};
use super::browser::{Browser, Pages};
use super::forwarded::Forwarded;
#[cfg(feature = "password")]
use super::going::{GoingOn, MOST_WAITING};
#[cfg(feature = "password")]
use super::sign_in::PasswordSignIn;
use super::which::Endpoint;
use crate::checker::Checker;
use crate::sessions::Sessions;
#[cfg(feature = "password")]
use crate::throttle::MemoryThrottle;
use crate::throttle::Throttle;
use crate::tickets::Tickets;

/// Sets up the endpoints of one issuer.
///
/// ```
/// use std::sync::Arc;
/// use vorsel::endpoints::{Endpoint, Endpoints};
/// use vorsel::{NoOwn, Routes, Sessions};
///
/// # fn routes(sessions: Arc<Sessions<NoOwn>>) -> Result<Routes, vorsel::endpoints::EndpointsError> {
/// let endpoints = Endpoints::new(sessions, "https://id.skarnhill.test").with(Endpoint::Introspection);
/// let routes = Routes::new().merge(endpoints.prefix("/oauth").routes()?);
/// # Ok(routes)
/// # }
/// ```
#[must_use]
pub struct Endpoints<C> {
    sessions: Arc<Sessions<C>>,
    base: String,
    prefix: String,
    offered: BTreeSet<Endpoint>,
    paths: BTreeMap<Endpoint, String>,
    view: Option<Duration>,
    throttle: Option<Arc<dyn Throttle>>,
    is_unthrottled: bool,
    forwarded: Option<Forwarded>,
    browser: Option<Browser>,
    tickets: Option<Tickets>,
    #[cfg(feature = "password")]
    sign_in: Option<PasswordSignIn>,
    problems: Vec<String>,
}

/// How many polls of the feed may be kept waiting; those beyond are answered at once.
const MOST_POLLS: usize = 1_024;
/// All who wait read when there is news; renewals, and this instance's own view, are not to wait for them.
const MOST_READING: usize = 4;

/// What the endpoints share.
pub(super) struct Shared<C> {
    pub(super) sessions: Arc<Sessions<C>>,
    base: String,
    paths: BTreeMap<Endpoint, String>,
    /// Access tokens of the issuer's, for whatever audience.
    pub(super) ours: Checker<Map<String, Value>>,
    /// Where introspection goes by what is known to have ended, for how long the feed may be silent.
    pub(super) view: Option<Duration>,
    pub(super) throttle: Option<Arc<dyn Throttle>>,
    pub(super) forwarded: Option<Forwarded>,
    pub(super) told_of_no_address: Once,
    pub(super) pages: Option<Pages>,
    pub(super) tickets: Option<Tickets>,
    /// Room for polls of the feed that wait.
    pub(super) feed_waiting: Semaphore,
    /// How many read the store's feed at once for them.
    pub(super) feed_reading: Semaphore,
    #[cfg(feature = "password")]
    pub(super) sign_in: Option<PasswordSignIn>,
    #[cfg(feature = "password")]
    pub(super) going: GoingOn,
    #[cfg(feature = "password")]
    pub(super) waiting: Semaphore,
}

impl<C: Serialize + Send + Sync + 'static> Endpoints<C> {
    /// Endpoints for `sessions`, reached from outside under `base` (`https://id.skarnhill.test`): on the issuer's host, or on this
    /// machine. If clients are [registered](crate::SessionsBuilder::clients) with the sessions, these alone are served.
    pub fn new(sessions: Arc<Sessions<C>>, base: &str) -> Self {
        Self {
            sessions,
            base: base.to_owned(),
            prefix: "/oauth".to_owned(),
            offered: Endpoint::USUAL.into(),
            paths: BTreeMap::new(),
            view: None,
            throttle: None,
            is_unthrottled: false,
            forwarded: None,
            browser: None,
            tickets: None,
            #[cfg(feature = "password")]
            sign_in: None,
            problems: Vec::new(),
        }
    }

    /// The path under which they are mounted; `/oauth` if nothing is set. To be set here rather than by nesting the routes, since the
    /// metadata names it.
    pub fn prefix(mut self, prefix: &str) -> Self {
        format!("/{}", prefix.trim_matches('/')).trim_end_matches('/').clone_into(&mut self.prefix);
        self
    }

    /// Offers this endpoint as well.
    pub fn with(mut self, endpoint: Endpoint) -> Self {
        self.offered.insert(endpoint);
        self
    }

    /// Leaves this endpoint out.
    pub fn without(mut self, endpoint: Endpoint) -> Self {
        self.offered.remove(&endpoint);
        self
    }

    /// Another path for this endpoint, whatever the prefix. Where the metadata lies is said by the standards.
    pub fn at(mut self, endpoint: Endpoint, path: &str) -> Self {
        self.paths.insert(endpoint, path.to_owned());
        self
    }

    /// Introspection does not ask the store for the session of an access token but goes by what this instance knows to be revoked, which
    /// may be a second behind. If the feed has been silent for longer than this, it answers 503.
    pub const fn introspect_from_view(mut self, longest_silence: Duration) -> Self {
        self.view = Some(longest_silence);
        self
    }

    /// Counts failures by this throttle, on sign-in, token and introspection. A sign-in has one of its own if nothing is said.
    pub fn throttle(mut self, throttle: impl Throttle + 'static) -> Self {
        self.throttle = Some(Arc::new(throttle));
        self
    }

    /// Counts no failures at all, so that anybody may guess on: for tests, and behind something else that counts them.
    pub const fn danger_without_throttle(mut self) -> Self {
        self.is_unthrottled = true;
        self
    }

    /// Where a request comes from is what so many proxies of the app's own say in this header, `X-Forwarded-For` for instance: the address
    /// is counted from the right, since what stands further left anybody may have written. Without this it is the other side of the
    /// connection, for an app that is served with `into_make_service_with_connect_info::<SocketAddr>()`.
    pub fn forwarded(mut self, header: &str, proxies: usize) -> Self {
        match (header.parse(), proxies) {
            (Ok(header), 1..) => self.forwarded = Some(Forwarded { header, proxies }),
            _ => self
                .problems
                .push(format!("expected a header and one proxy at least, but found {header:?} and {proxies}")),
        }
        self
    }

    /// Keeps the sessions of pages in cookies.
    pub fn browser(mut self, browser: Browser) -> Self {
        self.browser = Some(browser);
        self
    }

    /// Offers [tickets](Tickets) at `{prefix}/ticket`, for a signed-in caller.
    pub fn tickets(mut self, tickets: Tickets) -> Self {
        self.offered.insert(Endpoint::Ticket);
        self.tickets = Some(tickets);
        self
    }

    /// Offers a sign-in by password, at `{prefix}/sign-in` if nothing else is said. Its failures are throttled, by a
    /// [`MemoryThrottle`](crate::MemoryThrottle) unless [another](Self::throttle) is set.
    #[cfg(feature = "password")]
    pub fn sign_in(mut self, sign_in: PasswordSignIn) -> Self {
        self.offered.insert(Endpoint::SignIn);
        self.sign_in = Some(sign_in);
        self
    }

    /// Checks what was set up.
    pub(super) fn shared(self) -> Result<Shared<C>, EndpointsError> {
        let Self {
            sessions, base, prefix, offered, mut paths, view, throttle, forwarded, browser, mut problems, ..
        } = self;
        let access = sessions.access_tokens();
        let issuer = Address::read("the issuer", access.issuer()).map_err(|problem| problems.push(problem)).ok();
        let at = Address::read("the base of the endpoints", &base).map_err(|problem| problems.push(problem)).ok();
        if let (Some(issuer), Some(at)) = (&issuer, &at)
            && !at.has_host_of(issuer)
            && !at.is_on_this_machine()
        {
            problems.push(format!(
                "expected the base of the endpoints on the issuer's host or on this machine, but found {base:?} for the issuer {:?}",
                access.issuer()
            ));
        }
        for (endpoint, path) in &paths {
            if endpoint.name().is_none() || !offered.contains(endpoint) {
                problems.push(format!(
                    "expected an endpoint that is offered and can be moved, but found {endpoint:?} at {path:?}"
                ));
            }
            if !path.starts_with('/') || path.contains(['{', '}', '*', '?', '#', ' ']) {
                problems.push(format!("expected a path such as \"/renew\" for {endpoint:?}, but found {path:?}"));
            }
        }
        paths.retain(|endpoint, _| offered.contains(endpoint));
        for endpoint in &offered {
            let path = match (endpoint, endpoint.name()) {
                (_, Some(name)) => Some(format!("{prefix}/{name}")),
                (Endpoint::ResourceMetadata, None) => {
                    Address::read("the audience, for its metadata,", access.audience())
                        .map_err(|problem| problems.push(problem))
                        .ok()
                        .map(|address| address.well_known(RESOURCE))
                }
                // RFC 8414 section 3
                (_, None) => issuer.as_ref().map(|issuer| issuer.well_known("oauth-authorization-server")),
            };
            if let Some(path) = path {
                paths.entry(*endpoint).or_insert(path);
            }
        }
        if offered.contains(&Endpoint::Introspection) && sessions.clients().is_none() {
            problems.push("introspection is for registered clients, but none are: SessionsBuilder::clients".to_owned());
        }
        if offered.contains(&Endpoint::Feed) && (sessions.clients().is_none() || access.revocations().is_none()) {
            problems.push(
                "the feed is for registered clients, and told by a view of it: SessionsBuilder::clients and revocations".to_owned(),
            );
        }
        if offered.contains(&Endpoint::Ticket) && self.tickets.is_none() {
            problems.push("tickets are made by something: Endpoints::tickets".to_owned());
        }
        if view.is_some() && access.revocations().is_none() {
            problems.push("introspection from the view needs one: SessionsBuilder::revocations".to_owned());
        }
        let pages = browser.and_then(|browser| {
            let with_cookie = [Endpoint::Token, Endpoint::Revocation];
            let paths: Vec<&str> = with_cookie.iter().filter_map(|name| paths.get(name).map(String::as_str)).collect();
            let pages = browser.pages(&paths, sessions.limits().idle.as_duration());
            pages.map_err(|found| problems.extend(found)).ok()
        });
        #[cfg(feature = "password")]
        if let (Some(pages), Some(path)) = (&pages, paths.get(&Endpoint::SignIn))
            && !pages.reaches(path)
        {
            tracing::warn!(
                target: "vorsel::endpoints",
                "the cookie with the refresh token does not reach {path}, so a page that signs in again begins a new session: \
                 Browser::host_cookie, or a path beside the token endpoint's"
            );
        }
        if !problems.is_empty() {
            return Err(EndpointsError { problems });
        }
        let base = at.map(|at| format!("{}{}", at.origin, at.path)).unwrap_or_default();
        let ours = Expectations::danger_from_anyone_for_anyone(Kind::Access).issuer(access.issuer());
        let ours = Checker::new(access.keys().clone(), ours);
        #[cfg(feature = "password")]
        let throttle = match (throttle.filter(|_| !self.is_unthrottled), &self.sign_in) {
            (None, Some(_)) if !self.is_unthrottled => {
                let made = MemoryThrottle::new().map_err(|error| EndpointsError { problems: vec![error.to_string()] });
                Some(Arc::new(made?) as Arc<dyn Throttle>)
            }
            (throttle, _) => throttle,
        };
        #[cfg(not(feature = "password"))]
        let throttle = throttle.filter(|_| !self.is_unthrottled);
        Ok(Shared {
            sessions,
            base,
            paths,
            ours,
            view,
            throttle,
            forwarded,
            told_of_no_address: Once::new(),
            pages,
            tickets: self.tickets,
            feed_waiting: Semaphore::new(MOST_POLLS),
            feed_reading: Semaphore::new(MOST_READING),
            #[cfg(feature = "password")]
            sign_in: self.sign_in,
            #[cfg(feature = "password")]
            going: GoingOn::default(),
            #[cfg(feature = "password")]
            waiting: Semaphore::new(MOST_WAITING),
        })
    }
}

impl<C: Serialize + Send + Sync + 'static> Shared<C> {
    /// The issuer's name.
    pub(super) fn issuer(&self) -> &str {
        self.sessions.access_tokens().issuer()
    }

    pub(super) fn has(&self, endpoint: Endpoint) -> bool {
        self.paths.contains_key(&endpoint)
    }

    pub(super) fn path_of(&self, endpoint: Endpoint) -> Option<&str> {
        self.paths.get(&endpoint).map(String::as_str)
    }

    /// Its address from outside.
    pub(super) fn address_of(&self, endpoint: Endpoint) -> String {
        format!("{}{}", self.base, self.path_of(endpoint).unwrap_or_default())
    }
}

impl<C> Clone for Endpoints<C> {
    fn clone(&self) -> Self {
        Self {
            sessions: self.sessions.clone(),
            base: self.base.clone(),
            prefix: self.prefix.clone(),
            offered: self.offered.clone(),
            paths: self.paths.clone(),
            view: self.view,
            throttle: self.throttle.clone(),
            is_unthrottled: self.is_unthrottled,
            forwarded: self.forwarded.clone(),
            browser: self.browser.clone(),
            tickets: self.tickets.clone(),
            #[cfg(feature = "password")]
            sign_in: self.sign_in.clone(),
            problems: self.problems.clone(),
        }
    }
}

impl<C> fmt::Debug for Endpoints<C> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { base, prefix, offered, .. } = self;
        f.debug_struct("Endpoints")
            .field("base", base)
            .field("prefix", prefix)
            .field("offered", offered)
            .finish_non_exhaustive()
    }
}
