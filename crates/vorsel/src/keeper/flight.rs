//! The keeper: one renewal for however many wait, ahead of time where it can be.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use reqwest::Client;
use tokio::sync::watch;
use vorsel_core::Timestamp;

use super::ask::Endpoint;
use super::error::KeeperError;
use super::kept::{KeptTokens, TokenPlace};
use crate::clock::Clock;
use crate::meters;
use crate::random::random_bytes;

/// Keeps a pair of tokens fresh: renews ahead of expiry, once for however many wait, and goes on although whoever asked for it has gone
/// away. What it can't do is a typed error: [`KeeperError::SignInAgain`] is the one for people. Clones share the tokens.
///
/// ```
/// use vorsel::{KeeperError, KeptTokens, TokenKeeper};
///
/// # async fn call(http: reqwest::Client, signed_in: KeptTokens) -> Result<(), Box<dyn std::error::Error>> {
/// let keeper = TokenKeeper::builder("https://id.skarnhill.test/oauth/token", "desk").build()?;
/// keeper.begin(signed_in).await; // what the sign-in has answered
/// let answer = keeper.send(http.get("https://api.skarnhill.test/exposures")).await?; // renewed and repeated once if it has to be
/// let token = keeper.token().await?; // for whatever else sends it
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct TokenKeeper(Arc<Inner>);

pub(super) struct Inner {
    pub(super) endpoint: Endpoint,
    /// Whether the client acts for itself.
    pub(super) is_machine: bool,
    pub(super) http: Client,
    pub(super) place: Option<Arc<dyn TokenPlace>>,
    pub(super) clock: Arc<dyn Clock>,
    pub(super) state: Mutex<State>,
}

#[derive(Default)]
pub(super) struct State {
    current: Option<Arc<Current>>,
    flight: Option<watch::Receiver<Option<Outcome>>>,
    /// Nobody is asked before this moment.
    resting: Option<(Instant, KeeperError)>,
    failures_in_a_row: u32,
    is_loaded: bool,
    over: Option<KeeperError>,
    renewals: u64,
    /// Grows when somebody begins anew or forgets: what was asked for before says nothing of that.
    epoch: u64,
    /// A fresh token was refused as well: until then another one is not asked for because of that.
    distrusted_until: Option<Instant>,
}

type Outcome = Result<Arc<Current>, KeeperError>;

/// Tokens in use.
struct Current {
    tokens: KeptTokens,
    text: Arc<str>,
    /// From when on they are renewed, ahead of time.
    renew_from: Timestamp,
}

/// However many requests an API refuses that takes no token at all.
const BETWEEN_DISTRUST: Duration = Duration::from_secs(5);
const FIRST_REST: Duration = Duration::from_secs(1);
const LONGEST_REST: Duration = Duration::from_secs(60);

impl Current {
    /// Somewhere in the last fifth of its life, so that many clients don't come at once.
    fn of(tokens: KeptTokens) -> Arc<Self> {
        let mut bytes = [0; 2];
        // Without randomness all come at the same time.
        let _ = random_bytes(&mut bytes);
        let chance = f64::from(u16::from_le_bytes(bytes)) / f64::from(u16::MAX);
        let ahead = Duration::from_secs(tokens.lifetime).mul_f64(0.1 + 0.1 * chance);
        let renew_from = Timestamp::from_secs(tokens.expires_at).before(ahead);
        Arc::new(Self { text: tokens.access_token.as_str().into(), tokens, renew_from })
    }

    fn is_good(&self, now: Timestamp) -> bool {
        now < Timestamp::from_secs(self.tokens.expires_at)
    }
}

impl TokenKeeper {
    pub(super) fn of(inner: Inner) -> Self {
        Self(Arc::new(inner))
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.0.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// An access token that has not expired. If it will soon, it is renewed meanwhile and nobody waits.
    ///
    /// # Errors
    /// If there is none and none can be had.
    pub async fn token(&self) -> Result<Arc<str>, KeeperError> {
        self.load().await?;
        let now = self.0.clock.now();
        let current = self.state().current.clone();
        match current.filter(|current| current.is_good(now)) {
            Some(current) => {
                if now >= current.renew_from {
                    // Whatever comes of it, this one is still good.
                    drop(self.flight(None));
                }
                Ok(current.text.clone())
            }
            None => self.renewed(None).await,
        }
    }

    /// A token in the place of one that was refused, by one renewal for however many ask.
    ///
    /// # Errors
    /// If none can be had.
    pub async fn instead_of(&self, refused: &str) -> Result<Arc<str>, KeeperError> {
        self.load().await?;
        self.renewed(Some(refused)).await
    }

    /// Begins with these tokens, as a sign-in has answered them.
    pub async fn begin(&self, tokens: KeptTokens) {
        self.keep(Some(&tokens)).await;
        let mut state = self.state();
        (state.current, state.over, state.resting) = (Some(Current::of(tokens)), None, None);
        (state.is_loaded, state.failures_in_a_row, state.flight) = (true, 0, None);
        state.epoch += 1;
    }

    /// Forgets the tokens, after a sign-out for instance.
    pub async fn forget(&self) {
        self.keep(None).await;
        let mut state = self.state();
        (state.current, state.is_loaded, state.flight) = (None, true, None);
        state.epoch += 1;
    }

    /// A fresh token was refused, too.
    pub(super) fn refused_again(&self) {
        self.state().distrusted_until = Some(Instant::now() + BETWEEN_DISTRUST);
    }

    /// How often the issuer was asked.
    #[must_use]
    pub fn renewals(&self) -> u64 {
        self.state().renewals
    }

    async fn load(&self) -> Result<(), KeeperError> {
        if self.state().is_loaded {
            return Ok(());
        }
        let kept = match &self.0.place {
            Some(place) => place.load().await.map_err(|error| KeeperError::Place { reason: error.to_string() })?,
            None => None,
        };
        let mut state = self.state();
        if !state.is_loaded {
            (state.current, state.is_loaded) = (kept.map(Current::of), true);
        }
        Ok(())
    }

    async fn keep(&self, tokens: Option<&KeptTokens>) {
        let Some(place) = &self.0.place else { return };
        if let Err(error) = place.keep(tokens).await {
            tracing::error!(target: "vorsel::keeper", "the tokens can't be kept and will be lost with the process: {error}");
        }
    }

    async fn renewed(&self, refused: Option<&str>) -> Result<Arc<str>, KeeperError> {
        let mut flight = match self.flight(refused) {
            Ok(flight) => flight,
            Err(settled) => return settled.map(|current| current.text.clone()),
        };
        let outcome = flight.wait_for(Option::is_some).await.map(|outcome| outcome.clone());
        match outcome {
            Ok(Some(outcome)) => outcome.map(|current| current.text.clone()),
            // Its task is gone, with the runtime that it was on.
            _ => {
                self.state().flight = None;
                Err(KeeperError::Unavailable { reason: "the renewal was broken off".to_owned(), retry_after: None })
            }
        }
    }

    /// The renewal that is under way, or a new one; or what is known without one.
    fn flight(&self, refused: Option<&str>) -> Result<watch::Receiver<Option<Outcome>>, Outcome> {
        let mut state = self.state();
        if let Some(flight) = &state.flight {
            return Ok(flight.clone());
        }
        let now = self.0.clock.now();
        // Somebody else was faster.
        let newer = state.current.as_ref().filter(|current| match refused {
            Some(refused) => *current.text != *refused && current.is_good(now),
            None => now < current.renew_from,
        });
        let distrusted = state.distrusted_until.is_some_and(|until| Instant::now() < until);
        let newer =
            newer.or_else(|| state.current.as_ref().filter(|it| refused.is_some() && distrusted && it.is_good(now)));
        if let Some(newer) = newer {
            return Err(Ok(newer.clone()));
        }
        if let Some(over) = &state.over {
            return Err(Err(over.clone()));
        }
        if let Some((until, error)) = &state.resting
            && Instant::now() < *until
        {
            return Err(Err(error.clone()));
        }
        let refresh_token = state.current.as_ref().and_then(|current| current.tokens.refresh_token.clone());
        if refresh_token.is_none() && !self.0.is_machine {
            return Err(Err(KeeperError::SignInAgain { reason: "there is no refresh token".to_owned() }));
        }
        let (done, flight) = watch::channel(None);
        state.flight = Some(flight.clone());
        state.renewals += 1;
        let epoch = state.epoch;
        drop(state);
        let keeper = self.clone();
        // On a task of its own: it goes on although whoever began it goes away.
        tokio::spawn(async move {
            let asked = keeper.0.endpoint.ask(&keeper.0.http, refresh_token.as_deref(), now).await;
            let outcome = asked.as_ref().map_or_else(KeeperError::code, |_| "renewed");
            meters::kept_tokens(&keeper.0.endpoint.client.id, outcome);
            let outcome = keeper.settle(asked, epoch).await;
            done.send_replace(Some(outcome));
        });
        Ok(flight)
    }

    /// Keeps what came, and says what it means.
    async fn settle(&self, asked: Result<KeptTokens, KeeperError>, epoch: u64) -> Outcome {
        if self.state().epoch != epoch {
            return self.overtaken();
        }
        match &asked {
            Ok(tokens) => self.keep(Some(tokens)).await,
            Err(KeeperError::SignInAgain { .. }) => self.keep(None).await,
            Err(_) => {}
        }
        if let Some(outcome) = self.remember(asked, epoch) {
            return outcome;
        }
        // Which of both was kept last nobody knows.
        let current = self.state().current.clone();
        self.keep(current.as_ref().map(|current| &current.tokens)).await;
        self.overtaken()
    }

    /// What is known from now on; nothing if somebody has begun anew meanwhile.
    fn remember(&self, asked: Result<KeptTokens, KeeperError>, epoch: u64) -> Option<Outcome> {
        let mut state = self.state();
        if state.epoch != epoch {
            return None;
        }
        state.flight = None;
        Some(match asked {
            Ok(tokens) => {
                let current = Current::of(tokens);
                (state.current, state.resting, state.failures_in_a_row) = (Some(current.clone()), None, 0);
                Ok(current)
            }
            Err(error @ KeeperError::SignInAgain { .. }) => {
                (state.current, state.over) = (None, Some(error.clone()));
                Err(error)
            }
            Err(error) => {
                let rest = FIRST_REST * 2_u32.saturating_pow(state.failures_in_a_row.min(6));
                let asked_for = match &error {
                    KeeperError::Unavailable { retry_after: Some(span), .. } => *span,
                    _ => Duration::ZERO,
                };
                let rest = rest.max(asked_for).min(LONGEST_REST);
                state.failures_in_a_row = state.failures_in_a_row.saturating_add(1);
                state.resting = Some((Instant::now() + rest, error.clone()));
                Err(error)
            }
        })
    }

    /// Somebody has begun anew, or forgotten all, while the issuer was asked.
    fn overtaken(&self) -> Outcome {
        let reason = "the tokens were forgotten".to_owned();
        self.state().current.clone().ok_or(KeeperError::SignInAgain { reason })
    }
}

impl fmt::Debug for TokenKeeper {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { endpoint, .. } = &*self.0;
        f.debug_struct("TokenKeeper").field("client_id", &endpoint.client.id).finish_non_exhaustive()
    }
}
