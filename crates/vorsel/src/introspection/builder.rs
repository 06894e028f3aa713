//! Setting up who is asked, and by whom.

use std::error::Error;
use std::fmt;
use std::time::Duration;

use reqwest::{Client, Url};
use vorsel_core::{Expectations, KeySet, Keyring, Reading, Verifier};

use super::error::IntrospectionError;
use crate::outgoing::{OwnClient, address, direct};

/// Within which an issuer is asked.
///
/// ```
/// use std::time::Duration;
/// use vorsel::IntrospectionLimits;
///
/// let mut limits = IntrospectionLimits::default();
/// limits.kept = Duration::from_secs(30); // a token that is revoked is let in for so long
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct IntrospectionLimits {
    /// How long one question may take.
    pub within: Duration,
    /// How long an answer is good for, and never beyond the token's own `exp`. Within it a sign-out is not noticed.
    pub kept: Duration,
    /// How long a token that is not active is refused without asking again.
    pub refused_kept: Duration,
    /// How long after that an answer does while the issuer can't be asked; nothing if requests are rather answered 503.
    pub through_outage: Duration,
    /// How many answers are remembered.
    pub most: usize,
    /// How many questions may be under way at once; requests beyond are answered 503.
    pub under_way: usize,
}

impl Default for IntrospectionLimits {
    /// 5 s, 30 s, 5 s, none through an outage, 4,096 answers, 256 questions at once.
    fn default() -> Self {
        Self {
            within: Duration::from_secs(5),
            kept: Duration::from_secs(30),
            refused_kept: Duration::from_secs(5),
            through_outage: Duration::ZERO,
            most: 4_096,
            under_way: 256,
        }
    }
}

/// An issuer that is asked what tokens are worth, where a guard can't tell: those that are no JWTs, or all that name it. Answers are
/// remembered for a while, one question is asked for however many come with the same token, and what happens when the issuer is down is
/// the app's to say.
///
/// ```
/// use vorsel::{AccessPlan, Guard, Introspection, NoOwn, Verifier};
///
/// # fn set_up(verifier: Verifier, plan: AccessPlan) -> Result<(), Box<dyn std::error::Error>> {
/// let asked = Introspection::builder("https://id.lab.skarnhill.test", "https://id.lab.skarnhill.test/introspect", "https://api.skarnhill.test")
///     .secret("archive", "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc")
///     .build()?;
/// let guard: Guard<NoOwn> = Guard::builder(verifier, plan).introspect(asked).build()?; // JWTs are checked here, others are asked about
/// # drop(guard);
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Introspection {
    pub(super) endpoint: Url,
    pub(super) issuer: String,
    pub(super) client: OwnClient,
    pub(super) limits: IntrospectionLimits,
    pub(super) http: Client,
    /// Of what an answer has to say; it has no key.
    pub(super) verifier: Verifier,
    /// Whether it is asked about JWTs that name it, too.
    pub(super) takes_jwts: bool,
}

/// Sets up an [`Introspection`].
///
/// ```
/// use vorsel::Introspection;
///
/// let introspection = Introspection::builder(
///     "https://id.harbour.test",
///     "https://id.harbour.test/introspect",
///     "https://api.skarnhill.test",
/// )
/// .secret("skarn-hill", "the client's secret")
/// .build()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub struct IntrospectionBuilder {
    issuer: String,
    endpoint: String,
    client: Option<OwnClient>,
    limits: IntrospectionLimits,
    expectations: Expectations,
    takes_jwts: bool,
}

impl Introspection {
    /// The issuer as its tokens write it, its introspection endpoint, and the audience that tokens have to be for.
    pub fn builder(
        issuer: impl Into<String>,
        endpoint: impl Into<String>,
        audience: impl Into<String>,
    ) -> IntrospectionBuilder {
        let issuer = issuer.into();
        let expectations = Expectations::access_in_any_jwt(&issuer, audience);
        let (client, limits, takes_jwts) = (None, IntrospectionLimits::default(), false);
        IntrospectionBuilder { issuer, endpoint: endpoint.into(), client, limits, expectations, takes_jwts }
    }
}

impl IntrospectionBuilder {
    /// We are this client there, and show a secret.
    pub fn secret(mut self, client_id: impl Into<String>, secret: impl Into<String>) -> Self {
        self.client = Some(OwnClient::with_secret(client_id, secret));
        self
    }

    /// We are this client there, and sign who we are (`private_key_jwt`).
    pub fn key(mut self, client_id: impl Into<String>, key: impl Into<Keyring>) -> Self {
        self.client = Some(OwnClient::with_key(client_id, key));
        self
    }

    /// Asks about JWTs that name this issuer, too, in the place of checking them here: a sign-out is noticed at once (or
    /// [soon](IntrospectionLimits::kept)), at the cost of a question.
    pub const fn jwts_too(mut self) -> Self {
        self.takes_jwts = true;
        self
    }

    /// Where the answers keep subject, client, roles and scopes.
    pub fn reading(mut self, reading: Reading) -> Self {
        self.expectations = self.expectations.reading(reading);
        self
    }

    /// Other limits.
    pub const fn limits(mut self, limits: IntrospectionLimits) -> Self {
        self.limits = limits;
        self
    }

    /// Checks what was set up. Nobody is asked yet.
    ///
    /// # Errors
    /// If the endpoint is not https (or on this machine), or no client is named.
    pub fn build(self) -> Result<Introspection, IntrospectionError> {
        let Self { issuer, endpoint, client, limits, expectations, takes_jwts } = self;
        let wrong = |expected, found| Err(IntrospectionError::SetUp { expected, found });
        let Some(url) = address(&endpoint) else {
            return wrong("an https address, or one on this machine", format!("{endpoint:?}"));
        };
        let Some(client) = client else {
            return wrong("a client that may introspect, with a secret or a key", "none".to_owned());
        };
        if limits.within.is_zero() || limits.under_way == 0 {
            return wrong("time and room for a question", format!("{limits:?}"));
        }
        let http = direct().timeout(limits.within).build();
        let http = http.map_err(|error| -> Box<dyn Error + Send + Sync> { error.into() })?;
        let verifier = Verifier::new(KeySet::default(), expectations);
        Ok(Introspection { endpoint: url, issuer, client, limits, http, verifier, takes_jwts })
    }
}

impl fmt::Debug for Introspection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { issuer, client, limits, .. } = self;
        f.debug_struct("Introspection")
            .field("issuer", issuer)
            .field("client_id", &client.id)
            .field("limits", limits)
            .finish_non_exhaustive()
    }
}

impl fmt::Debug for IntrospectionBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("IntrospectionBuilder").field("issuer", &self.issuer).finish_non_exhaustive()
    }
}
