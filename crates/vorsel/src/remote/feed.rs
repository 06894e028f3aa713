//! Setting up whose revocations are followed, and as whom.

use std::fmt;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use vorsel_core::{Expectations, Keyring, Verifier};

use super::builder::RemoteIssuerError;
use super::fetch::address;
use super::issuer::RemoteIssuer;
use super::polls::{Inner, OfIssuer};
use crate::clock::{Clock, SystemClock};
use crate::outgoing::{self, OwnClient};
use crate::revocations::LiveRevocations;

/// For so long nothing may come, the issuer's own wait included: a connection may be dead without an end.
const SILENT_FOR: Duration = Duration::from_secs(5);
/// One poll may take this long: half a megabyte by a slow line.
const WITHIN: Duration = Duration::from_secs(60);

/// Sets up how an issuer's revocations are followed without its store.
///
/// ```
/// use std::time::Duration;
/// use vorsel::{AccessPlan, Guard, NoOwn, RemoteIssuer, WhenSilent};
///
/// # async fn set_up(plan: AccessPlan) -> Result<Guard<NoOwn>, Box<dyn std::error::Error>> {
/// let issuer = RemoteIssuer::builder("https://id.skarnhill.test", "https://archive.skarnhill.test").follow()?;
/// let secret = "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc";
/// let view = issuer.feed("https://id.skarnhill.test/oauth/feed").secret("archive", secret).follow()?;
/// let is_ready = view.ready_within(Duration::from_secs(5)).await; // until then nobody can tell what was revoked
/// let guard = Guard::builder(issuer, plan).revocations(view, Duration::from_secs(10), WhenSilent::Refuse).build()?;
/// # drop(is_ready);
/// # Ok(guard)
/// # }
/// ```
#[must_use]
pub struct RemoteFeedBuilder {
    issuer: RemoteIssuer,
    endpoint: String,
    client: Option<OwnClient>,
    clock: Arc<dyn Clock>,
}

impl RemoteIssuer {
    /// What this issuer has revoked, told at this endpoint of its own to clients that [may follow](crate::Client::may_follow).
    pub fn feed(&self, endpoint: impl Into<String>) -> RemoteFeedBuilder {
        let (issuer, endpoint) = (self.clone(), endpoint.into());
        RemoteFeedBuilder { issuer, endpoint, client: None, clock: Arc::new(SystemClock) }
    }
}

impl RemoteFeedBuilder {
    /// We are this client there, and show a secret.
    pub fn secret(mut self, client_id: impl Into<String>, secret: impl Into<String>) -> Self {
        self.client = Some(OwnClient::with_secret(client_id, secret));
        self
    }

    /// We are this client there, and sign who we are (`private_key_jwt`). The issuer notes each assertion in its store, one every two
    /// seconds; a secret costs it nothing.
    pub fn key(mut self, client_id: impl Into<String>, key: impl Into<Keyring>) -> Self {
        self.client = Some(OwnClient::with_key(client_id, key));
        self
    }

    /// Another clock than the machine's, for tests.
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.clock = clock;
        self
    }

    /// Follows the feed on the current tokio runtime, from its beginning, so that the view has all that counts once it is
    /// [ready](LiveRevocations::ready_within). This does not wait for the issuer. Times are held against this machine's clock, which
    /// may be up to five minutes from the issuer's.
    ///
    /// Guards refuse what the view knows, and do what they are told to when the feed has been silent for too long, as it is until it is
    /// ready. The view is of this issuer's own names: it is for [`GuardBuilder::revocations`](crate::GuardBuilder::revocations) of a guard
    /// whose first issuer this one is, and for [`revocations_of`](crate::GuardBuilder::revocations_of) where it is another one.
    ///
    /// # Errors
    /// If the endpoint is not https (or on this machine), or no client is named.
    ///
    /// # Panics
    /// Outside of a tokio runtime.
    pub fn follow(self) -> Result<LiveRevocations, RemoteIssuerError> {
        let Self { issuer, endpoint, client, clock } = self;
        let endpoint = address(&endpoint)?;
        let client = client.ok_or(RemoteIssuerError::NoClient)?;
        let http = outgoing::direct().connect_timeout(SILENT_FOR).read_timeout(SILENT_FOR).timeout(WITHIN).build();
        let http = http.map_err(|error| RemoteIssuerError::Client(error.into()))?;
        let expectations = Expectations::security_event(issuer.issuer(), &client.id);
        let verifier = issuer.live_keys().derive(move |keys| Verifier::new(keys.clone(), expectations.clone()));
        let refused = Mutex::default();
        let source = OfIssuer::of(Inner { issuer, endpoint, client, http, verifier, clock: clock.clone(), refused });
        Ok(LiveRevocations::of(Arc::new(source), clock))
    }
}

impl fmt::Debug for RemoteFeedBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("RemoteFeedBuilder").field("endpoint", &self.endpoint).finish_non_exhaustive()
    }
}
