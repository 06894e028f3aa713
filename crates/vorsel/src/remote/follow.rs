//! Following an issuer's keys: fetched before they go stale, kept through an outage, looked for when one is not known.

use std::sync::Arc;
use std::time::Duration;

use reqwest::{Client, Url};
use tokio::sync::{Notify, watch};
use tokio::time::{Instant, sleep_until, timeout};
use vorsel_core::{KeySet, KeySetError, with_causes};

use super::fetch::{FetchError, Fetched, client, fetch};
use super::limits::RemoteLimits;
use super::metadata::keys_address;
use crate::checker::Looking;
use crate::keys::LiveKeySet;
use crate::meters;
use crate::random::random_bytes;

/// Where the keys are is asked again after so long, or after a failure.
const METADATA_KEPT: Duration = Duration::from_secs(3_600);
/// After the first failure in a row; twice as long after each other.
const FIRST_PAUSE: Duration = Duration::from_secs(1);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// How it stands with an issuer's keys.
///
/// ```
/// # async fn example(harbour: &vorsel::RemoteIssuer) -> Result<(), Box<dyn std::error::Error>> {
/// let figures = harbour.figures();
/// if let Some(failure) = figures.failure {
///     println!("keys of {:?} ago; the last attempt failed: {failure}", figures.fetched_ago);
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct RemoteFigures {
    /// How many fetches of keys have been begun.
    pub fetches: u64,
    /// How long ago the keys were fetched; nothing if they never were.
    pub fetched_ago: Option<Duration>,
    /// Why the last fetch failed; nothing if it did not.
    pub failure: Option<String>,
}

/// What is known of an issuer's keys, and how they are fetched.
pub(super) struct Followed {
    issuer: String,
    /// Where the keys are, if the metadata need not be asked.
    keys_at: Option<Url>,
    client: Client,
    limits: RemoteLimits,
    keys: LiveKeySet,
    state: watch::Sender<State>,
    wanted: Notify,
}

#[derive(Clone, Debug, Default)]
struct State {
    begun: u64,
    done: u64,
    begun_at: Option<Instant>,
    fetched_at: Option<Instant>,
    failure: Option<String>,
    failures_in_a_row: u32,
}

/// What is remembered from one fetch to the next.
#[derive(Default)]
struct Before {
    keys_at: Option<(Url, Instant)>,
    text: String,
}

/// The keys of an issuer that is not followed.
pub(super) async fn once(issuer: &str, limits: &RemoteLimits) -> Result<KeySet, FetchError> {
    let failed = |source: reqwest::Error| FetchError::Failed { address: issuer.to_owned(), source: source.into() };
    let client = client(limits.within).map_err(failed)?;
    let address = keys_address(&client, issuer).await?;
    let Fetched { text, .. } = fetch(&client, address.clone(), limits.largest).await?;
    public_keys(&text, &address, issuer)
}

/// The public keys of a set: what anybody can read there is no secret.
fn public_keys(text: &str, address: &Url, issuer: &str) -> Result<KeySet, FetchError> {
    match KeySet::read(text) {
        Ok(keys) => {
            for skipped in keys.skipped() {
                let (index, reason) = (skipped.index, skipped.reason.as_str());
                tracing::info!(target: "vorsel::remote", issuer, "key {index} of the set is left out: {reason}");
            }
            let public = keys.keys().iter().filter(|key| key.public_thumbprint().is_some());
            Ok(KeySet::new(public.cloned()))
        }
        // The issuer has taken its keys back, or has only such as are of no use here.
        Err(error @ KeySetError::NoUsableKey { .. }) => {
            tracing::warn!(target: "vorsel::remote", issuer, "its tokens are refused: {}", with_causes(&error));
            Ok(KeySet::default())
        }
        Err(error) => {
            let (address, found) = (address.to_string(), with_causes(&error));
            Err(FetchError::Content { address, expected: "a JWK Set", found })
        }
    }
}

impl Followed {
    pub(super) fn new(
        issuer: String,
        keys_at: Option<Url>,
        client: Client,
        limits: RemoteLimits,
        keys: LiveKeySet,
    ) -> Self {
        let (state, _) = watch::channel(State::default());
        Self { issuer, keys_at, client, limits, keys, state, wanted: Notify::new() }
    }

    pub(super) fn issuer(&self) -> &str {
        &self.issuer
    }

    pub(super) const fn keys(&self) -> &LiveKeySet {
        &self.keys
    }

    /// Why there are no keys to check with, if there are none for want of an answer.
    pub(super) fn missing(&self) -> Option<String> {
        let none = || "its keys are still to be fetched".to_owned();
        let state = self.state.borrow();
        let is_unknown = state.fetched_at.is_none_or(|at| at.elapsed() > self.limits.through_outage);
        (is_unknown && !self.is_ready()).then(|| state.failure.clone().unwrap_or_else(none))
    }

    pub(super) fn is_ready(&self) -> bool {
        !self.keys.current().keys().is_empty()
    }

    pub(super) async fn ready_within(&self, longest: Duration) -> bool {
        let mut state = self.state.subscribe();
        let _ = timeout(longest, state.wait_for(|_| self.is_ready())).await;
        self.is_ready()
    }

    pub(super) fn figures(&self) -> RemoteFigures {
        let state = self.state.borrow();
        RemoteFigures {
            fetches: state.begun,
            fetched_ago: state.fetched_at.map(|at| at.elapsed()),
            failure: state.failure.clone(),
        }
    }

    /// One fetch for however many ask, and none soon after another one.
    pub(super) fn look_again(self: &Arc<Self>) -> Option<Looking> {
        let (begun, done, begun_at) = {
            let state = self.state.borrow();
            (state.begun, state.done, state.begun_at)
        };
        let is_under_way = begun > done;
        let is_due = begun_at.is_none_or(|at| at.elapsed() >= self.limits.between_unknown);
        if !is_under_way && !is_due {
            return None;
        }
        if !is_under_way {
            self.wanted.notify_one();
        }
        let (mut state, within) = (self.state.subscribe(), self.limits.within);
        Some(Box::pin(async move {
            // The metadata may have to be asked first.
            let _ = timeout(2 * within, state.wait_for(|state| state.done > done)).await;
        }))
    }

    /// Fetches now and then, for ever.
    pub(super) async fn follow(self: Arc<Self>) {
        let mut before = Before::default();
        loop {
            let kept_for = self.fetch_once(&mut before).await;
            let next = Instant::now() + kept_for;
            let soonest = self.begun_at() + self.limits.between_unknown;
            tokio::select! {
                () = sleep_until(next) => {}
                // Whoever asked too soon was told so; a permit may be left from a fetch that was under way.
                () = async { self.wanted.notified().await; sleep_until(soonest).await } => {}
            }
        }
    }

    fn begun_at(&self) -> Instant {
        self.state.borrow().begun_at.unwrap_or_else(Instant::now)
    }

    /// For how long there is nothing to do.
    async fn fetch_once(&self, before: &mut Before) -> Duration {
        self.state.send_modify(|state| {
            state.begun += 1;
            state.begun_at = Some(Instant::now());
        });
        let fetched = self.fetched(before).await;
        let (kept_for, failure) = match fetched {
            Ok(max_age) => {
                let kept = max_age.unwrap_or(self.limits.longest_kept);
                (kept.clamp(self.limits.least_kept, self.limits.longest_kept), None)
            }
            Err(error) => {
                before.keys_at = None;
                let reason = with_causes(&error);
                tracing::warn!(target: "vorsel::remote", issuer = self.issuer.as_str(), "the keys can't be fetched: {reason}");
                (Duration::ZERO, Some(reason))
            }
        };
        meters::keys_fetched(&self.issuer, failure.is_none(), crate::clock::now());
        let pause = self.noted(failure, kept_for);
        self.forget_if_out_for_too_long(before);
        pause
    }

    fn noted(&self, failure: Option<String>, kept_for: Duration) -> Duration {
        let mut pause = Duration::ZERO;
        self.state.send_modify(|state| {
            state.done = state.begun;
            match &failure {
                None => {
                    (state.fetched_at, state.failures_in_a_row) = (Some(Instant::now()), 0);
                    // Before they go stale, and not all instances at once.
                    pause = between(kept_for * 8 / 10, kept_for);
                }
                Some(_) => {
                    pause = pause_after(state.failures_in_a_row);
                    state.failures_in_a_row = state.failures_in_a_row.saturating_add(1);
                }
            }
            state.failure = failure;
        });
        pause
    }

    fn forget_if_out_for_too_long(&self, before: &mut Before) {
        let fetched_at = self.state.borrow().fetched_at;
        let is_over = fetched_at.is_some_and(|at| at.elapsed() > self.limits.through_outage);
        if is_over && !self.keys.current().keys().is_empty() {
            tracing::error!(
                target: "vorsel::remote", issuer = self.issuer.as_str(),
                "the keys could not be fetched for {:?}: its tokens are refused from now on", self.limits.through_outage
            );
            self.keys.set(KeySet::default());
            before.text.clear();
        }
    }

    /// Fetches the keys, and says for how long they may be kept.
    async fn fetched(&self, before: &mut Before) -> Result<Option<Duration>, FetchError> {
        let address = match (&self.keys_at, &before.keys_at) {
            (Some(address), _) => address.clone(),
            (None, Some((address, since))) if since.elapsed() < METADATA_KEPT => address.clone(),
            _ => {
                let address = keys_address(&self.client, &self.issuer).await?;
                before.keys_at = Some((address.clone(), Instant::now()));
                address
            }
        };
        let Fetched { text, max_age } = fetch(&self.client, address.clone(), self.limits.largest).await?;
        // What stays the same need not be forgotten by those who check with it.
        if text != before.text {
            self.keys.set(public_keys(&text, &address, &self.issuer)?);
            before.text = text;
        }
        Ok(max_age)
    }
}

/// After a failure that so many came before.
fn pause_after(failures: u32) -> Duration {
    let longest = FIRST_PAUSE.saturating_mul(2_u32.saturating_pow(failures)).min(LONGEST_PAUSE);
    between(longest / 2, longest)
}

/// A time between two, by chance.
fn between(least: Duration, most: Duration) -> Duration {
    let mut bytes = [0; 2];
    // Without randomness all wait for the same time.
    let _ = random_bytes(&mut bytes);
    let span = most.saturating_sub(least);
    least + span.mul_f64(f64::from(u16::from_le_bytes(bytes)) / f64::from(u16::MAX))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_with_failures_up_to_a_minute() {
        for (failures, longest) in [(0, 1), (1, 2), (5, 32), (6, 60), (7, 60), (31, 60), (u32::MAX, 60)] {
            let (longest, found) = (Duration::from_secs(longest), pause_after(failures));
            assert!((longest / 2..=longest).contains(&found), "after {failures}: {found:?}");
        }
        let (least, most) = (Duration::from_secs(8), Duration::from_secs(10));
        assert!((0..1_000).all(|_| (least..=most).contains(&between(least, most))));
    }
}
