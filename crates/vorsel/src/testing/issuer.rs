//! An issuer to throw away, and callers of it in one line.

use std::sync::Arc;
use std::time::Duration;

use http::header::AUTHORIZATION;
use http::{HeaderValue, Request};
use serde::Serialize;
use serde_json::Value;
use vorsel_core::{
    AccessDraft, AccessPlan, Algorithm, Expectations, Issuer, KeySet, Keyring, Lifetime, Object, Scopes, SigningKey,
    Timestamp, Verifier,
};

use super::StillClock;
use crate::admission::Admission;
use crate::clock::Clock;
use crate::guard::{Guard, GuardBuilder};
use crate::keys::IssuerKeys;
use crate::random::random_id;
use crate::sessions::{Sessions, SessionsBuilder};
use crate::store::MemoryStore;

const ISSUER: &str = "https://issuer.test";
const AUDIENCE: &str = "https://api.test";

/// An issuer with a key of its own and a clock that stands still until the test moves it.
///
/// ```
/// use tower::{ServiceExt, service_fn};
/// use vorsel::testing::TestIssuer;
/// use vorsel::{AccessPlan, NoOwn};
/// # tokio::runtime::Runtime::new()?.block_on(async {
/// let issuer = TestIssuer::new();
/// let plan = AccessPlan::builder().role("operator", &[]).need("GET", "/dome", "role operator").build()?;
/// let guard = issuer.guard::<NoOwn>(plan).build()?;
/// let service = guard.around(service_fn(async |_| Ok::<_, std::io::Error>(http::Response::new(String::new()))));
///
/// let request = issuer.caller("ope-0002").role("operator").request::<()>("GET", "/dome");
/// assert_eq!(service.clone().oneshot(request).await?.status(), 200);
/// let request = issuer.caller("vis-0003").request::<()>("GET", "/dome");
/// assert_eq!(service.oneshot(request).await?.status(), 403);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// # })?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct TestIssuer {
    issuer: Issuer,
    public: KeySet,
    keys: IssuerKeys,
    store: Arc<MemoryStore>,
    clock: Arc<StillClock>,
}

impl TestIssuer {
    /// A new issuer.
    ///
    /// # Panics
    /// If the operating system gives no randomness.
    #[must_use]
    #[expect(clippy::new_without_default, reason = "no two of them are the same")]
    pub fn new() -> Self {
        let make = |algorithm| SigningKey::generate(algorithm).unwrap_or_else(|error| panic!("no key: {error}"));
        let (key, refresh) = (Arc::new(make(Algorithm::EdDsa)), make(Algorithm::Hs256));
        let public = KeySet::new([key.verifying_key()]);
        let keys = IssuerKeys { access: Keyring::from(key.clone()).into(), refresh: refresh.into() };
        let clock = Arc::new(StillClock::at(Timestamp::from_secs(1_800_000_000)));
        Self { issuer: Issuer::new(ISSUER, key), public, keys, store: Arc::default(), clock }
    }

    /// The clock, for the test to move and for the app to go by.
    #[must_use]
    pub fn clock(&self) -> Arc<StillClock> {
        self.clock.clone()
    }

    /// A verifier of this issuer's access tokens. No clock skew is allowed: what lasts 300 seconds has expired after 300.
    #[must_use]
    pub fn verifier(&self) -> Verifier {
        let expected = || Expectations::access(ISSUER, AUDIENCE);
        Verifier::new(self.public.clone(), expected().skew(Duration::ZERO).unwrap_or_else(|_| expected()))
    }

    /// Sessions with this issuer's keys and clock, in memory: the guard takes the access tokens of their replies.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use vorsel::testing::TestIssuer;
    /// use vorsel::{Admission, AdmissionError, Grant, NoOwn, RenewalRequest, Scopes, SignIn};
    ///
    /// struct People;
    ///
    /// #[async_trait::async_trait]
    /// impl Admission<NoOwn> for People {
    ///     async fn admit(&self, _: &str, _: &str) -> Result<Grant<NoOwn>, AdmissionError> {
    ///         Ok(Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
    ///     }
    /// }
    ///
    /// # #[tokio::main]
    /// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let issuer = TestIssuer::new();
    /// let sessions = issuer.sessions(Arc::new(People)).build()?;
    /// let reply = sessions.start(SignIn::new("ope-0002", "desk")).await?;
    /// assert!(issuer.verifier().check(&reply.access_token, vorsel::Clock::now(&*issuer.clock())).is_ok());
    /// assert!(sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.is_ok());
    /// # Ok(())
    /// # }
    /// ```
    pub fn sessions<C: Serialize + Send + Sync + 'static>(
        &self,
        admission: Arc<dyn Admission<C>>,
    ) -> SessionsBuilder<C> {
        let sessions = Sessions::builder(ISSUER, AUDIENCE).keys(self.keys.clone()).store(self.store.clone());
        sessions.admission(admission).clock(self.clock())
    }

    /// A request with a token from elsewhere, that of a session's reply for instance.
    ///
    /// # Panics
    /// If the token, the method or the path is invalid in a request.
    #[must_use]
    pub fn request<B: Default>(&self, token: &str, method: &str, path: &str) -> Request<B> {
        let mut bearer = HeaderValue::try_from(format!("Bearer {token}")).unwrap_or_else(|error| panic!("{error}"));
        bearer.set_sensitive(true);
        let request = Request::builder().method(method).uri(path).header(AUTHORIZATION, bearer).body(B::default());
        request.unwrap_or_else(|error| panic!("{method} {path}: {error}"))
    }

    /// A guard that believes this issuer and goes by its clock.
    pub fn guard<C>(&self, plan: AccessPlan) -> GuardBuilder<C> {
        Guard::builder(self.verifier(), plan).clock(self.clock())
    }

    /// A caller of this subject, who signed in just now and has no role.
    pub fn caller(&self, subject: &str) -> TestCaller<'_> {
        TestCaller {
            issuer: self,
            subject: subject.to_owned(),
            audience: AUDIENCE.to_owned(),
            client: "test".to_owned(),
            roles: Vec::new(),
            scope: String::new(),
            acr: None,
            signed_in_ago: Duration::ZERO,
            lifetime: Lifetime::minutes(5),
            session: "test-session".to_owned(),
            own: Object::new(),
        }
    }
}

/// A caller for tests: what the token is to say.
///
/// ```
/// use vorsel::testing::TestIssuer;
///
/// let issuer = TestIssuer::new();
/// let request = issuer.caller("obs-0017").role("observer").scope("exposures:read").request::<String>("GET", "/dome");
/// assert!(request.headers().contains_key("authorization"));
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct TestCaller<'i> {
    issuer: &'i TestIssuer,
    subject: String,
    audience: String,
    client: String,
    roles: Vec<String>,
    scope: String,
    session: String,
    acr: Option<String>,
    signed_in_ago: Duration,
    lifetime: Lifetime,
    own: Object,
}

impl TestCaller<'_> {
    /// A role; call again for more.
    pub fn role(mut self, role: &str) -> Self {
        self.roles.push(role.to_owned());
        self
    }

    /// The scopes, with a space between them.
    pub fn scope(mut self, scopes: &str) -> Self {
        self.scope = scopes.to_owned();
        self
    }

    /// A claim of the app's own; call again for more.
    pub fn claim(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.own.insert(name.to_owned(), value.into());
        self
    }

    /// The client the token was given to; `test` if nothing is said.
    pub fn client(mut self, client: &str) -> Self {
        client.clone_into(&mut self.client);
        self
    }

    /// Another audience than the guard expects.
    pub fn audience(mut self, audience: &str) -> Self {
        self.audience = audience.to_owned();
        self
    }

    /// The session, `sid`; "test-session" if nothing is said.
    pub fn session(mut self, id: &str) -> Self {
        self.session = id.to_owned();
        self
    }

    /// How the caller authenticated.
    pub fn acr(mut self, acr: &str) -> Self {
        self.acr = Some(acr.to_owned());
        self
    }

    /// How long ago the caller authenticated.
    pub fn signed_in_ago(mut self, ago: Duration) -> Self {
        self.signed_in_ago = ago;
        self
    }

    /// How long the token lasts; 5 minutes if nothing is said.
    pub const fn lifetime(mut self, lifetime: Lifetime) -> Self {
        self.lifetime = lifetime;
        self
    }

    /// The token.
    ///
    /// # Panics
    /// If no token can say this: invalid scopes, or a registered name for a claim of the app's own.
    #[must_use]
    pub fn token(&self) -> String {
        let now = self.issuer.clock.now();
        let scopes = Scopes::parse(&self.scope).unwrap_or_else(|error| panic!("{error}"));
        let id = random_id().unwrap_or_else(|error| panic!("{error}"));
        let mut draft = AccessDraft::of(&self.subject)
            .audience(&self.audience)
            .client(&self.client)
            .lasting(self.lifetime)
            .roles(&self.roles)
            .scopes(scopes)
            .session(&self.session, now.before(self.signed_in_ago))
            .own(&self.own);
        if let Some(acr) = &self.acr {
            draft = draft.acr(acr);
        }
        self.issuer.issuer.access(&draft, &id, now).unwrap_or_else(|error| panic!("{error}"))
    }

    /// A request of this caller, with the token in the `Authorization` header.
    ///
    /// # Panics
    /// As [`token`](Self::token), and if the method or the path is invalid.
    #[must_use]
    pub fn request<B: Default>(&self, method: &str, path: &str) -> Request<B> {
        self.issuer.request(&self.token(), method, path)
    }
}
