//! Setting up a keeper.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use vorsel_core::Keyring;

use super::ask::Endpoint;
use super::error::KeeperError;
use super::flight::{Inner, State, TokenKeeper};
use super::kept::TokenPlace;
use crate::clock::{Clock, SystemClock};
use crate::outgoing::{self, OwnClient, Proof};

/// Sets up a [`TokenKeeper`].
///
/// ```
/// use vorsel::{TokenFile, TokenKeeper};
///
/// let keeper = TokenKeeper::builder("https://id.skarnhill.test/oauth/token", "desk")
///     .place(TokenFile::at("tokens.json"))
///     .build()?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use]
pub struct TokenKeeperBuilder {
    url: String,
    client: OwnClient,
    scopes: Option<Option<String>>,
    place: Option<Arc<dyn TokenPlace>>,
    within: Duration,
    clock: Arc<dyn Clock>,
}

impl TokenKeeper {
    /// A keeper for this client, which asks this token endpoint. It begins with no tokens, or with those of its
    /// [place](TokenKeeperBuilder::place).
    pub fn builder(token_endpoint: impl Into<String>, client_id: impl Into<String>) -> TokenKeeperBuilder {
        TokenKeeperBuilder {
            url: token_endpoint.into(),
            client: OwnClient { id: client_id.into(), proof: Proof::Nothing },
            scopes: None,
            place: None,
            within: Duration::from_secs(10),
            clock: Arc::new(SystemClock),
        }
    }
}

impl TokenKeeperBuilder {
    /// The client's secret, for one that is not public.
    pub fn secret(mut self, secret: impl Into<String>) -> Self {
        self.client = OwnClient::with_secret(self.client.id, secret);
        self
    }

    /// The client's key, for one that signs who it is (`private_key_jwt`).
    pub fn key(mut self, key: impl Into<Keyring>) -> Self {
        self.client = OwnClient::with_key(self.client.id, key);
        self
    }

    /// The client acts for itself (`client_credentials`), with these scopes, or with all that it may have if there are none.
    pub fn for_itself(mut self, scopes: &str) -> Self {
        self.scopes = Some((!scopes.is_empty()).then(|| scopes.to_owned()));
        self
    }

    /// Keeps the tokens there; in memory alone if nothing is said.
    pub fn place(mut self, place: impl TokenPlace + 'static) -> Self {
        self.place = Some(Arc::new(place));
        self
    }

    /// How long the issuer may take to answer; 10 s if nothing is said.
    pub const fn within(mut self, longest: Duration) -> Self {
        self.within = longest;
        self
    }

    /// Another clock than the machine's, for tests.
    pub fn clock(mut self, clock: Arc<dyn Clock>) -> Self {
        self.clock = clock;
        self
    }

    /// The keeper.
    ///
    /// # Errors
    /// If the endpoint is not https (or on this machine), or a client that acts for itself has no secret.
    pub fn build(self) -> Result<TokenKeeper, KeeperError> {
        let Self { url, client, scopes, place, within, clock } = self;
        let refused = |reason: String| KeeperError::SetUp { reason };
        let is_machine = scopes.is_some();
        if is_machine && matches!(client.proof, Proof::Nothing) {
            return Err(refused(
                "expected a secret or a key of a client that acts for itself, but found neither".to_owned(),
            ));
        }
        let url = outgoing::address(&url)
            .ok_or_else(|| refused(format!("expected an https address, or one on this machine, but found {url:?}")))?;
        let http = outgoing::direct().timeout(within).build();
        let http = http.map_err(|error| refused(format!("nothing can be sent here: {error}")))?;
        let endpoint = Endpoint { url, client, scopes: scopes.flatten() };
        Ok(TokenKeeper::of(Inner { endpoint, is_machine, http, place, clock, state: State::default().into() }))
    }
}

impl fmt::Debug for TokenKeeperBuilder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TokenKeeperBuilder").field("client_id", &self.client.id).finish_non_exhaustive()
    }
}
