//! Failures by key, in a table that does not grow beyond a bound.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use governor::clock::{Clock as _, Reference};
use governor::middleware::NoOpMiddleware;
use governor::nanos::Nanos;
use governor::state::StateStore;
use governor::{Quota, RateLimiter};

use super::budget::Budget;
use crate::clock::Clock;

/// One budget for each key.
pub(super) struct Table<K: Hash + Eq + Clone> {
    limiter: RateLimiter<Try<K>, Spent<K>, Ours, NoOpMiddleware<Nanos>>,
    /// In which one failure is forgotten.
    step: Nanos,
    /// Where all of the limiter's times begin.
    start: Nanos,
    kept: Kept<K>,
}

type Kept<K> = Arc<Mutex<HashMap<K, Nanos>>>;

/// A key, and whether the failure counts or is only held against the budget.
#[derive(Clone, PartialEq, Eq, Hash)]
struct Try<K> {
    key: K,
    counts: bool,
}

/// When each key's failures will be forgotten, as the limiter reckons it.
struct Spent<K> {
    kept: Kept<K>,
    most: usize,
}

/// The clock of the sessions, for the limiter.
struct Ours(Arc<dyn Clock>);

impl Clone for Ours {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl std::fmt::Debug for Ours {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Ours")
    }
}

impl governor::clock::Clock for Ours {
    type Instant = Nanos;

    fn now(&self) -> Nanos {
        Nanos::from(u64::try_from(self.0.now().as_micros()).unwrap_or_default().saturating_mul(1_000))
    }
}

impl<K: Hash + Eq + Clone> StateStore for Spent<K> {
    type Key = Try<K>;

    fn measure_and_replace<T, F, E>(&self, tried: &Try<K>, measure: F) -> Result<T, E>
    where
        F: Fn(Option<Nanos>) -> Result<(T, Nanos), E>,
    {
        let mut kept = locked(&self.kept);
        let (outcome, next) = measure(kept.get(&tried.key).copied())?;
        if tried.counts {
            if kept.len() >= self.most && !kept.contains_key(&tried.key) {
                make_room(&mut kept, self.most);
            }
            kept.insert(tried.key.clone(), next);
        }
        Ok(outcome)
    }
}

/// Those make way whose failures are forgotten first; an eighth at once, so that it costs each newcomer little.
fn make_room<K: Hash + Eq + Clone>(kept: &mut HashMap<K, Nanos>, most: usize) {
    let mut times: Vec<Nanos> = kept.values().copied().collect();
    let (_, bound, _) = times.select_nth_unstable_by_key(most / 8, |time| time.as_u64());
    let bound = bound.as_u64();
    kept.retain(|_, time| time.as_u64() > bound);
}

fn locked<K>(kept: &Kept<K>) -> MutexGuard<'_, HashMap<K, Nanos>> {
    kept.lock().unwrap_or_else(PoisonError::into_inner)
}

impl<K: Hash + Eq + Clone> Table<K> {
    pub(super) fn new(budget: Budget, most: usize, clock: &Arc<dyn Clock>) -> Self {
        let step = budget.one_back_in.max(Duration::from_millis(1));
        // A period that is not zero makes a quota.
        let quota = Quota::with_period(step).unwrap_or(Quota::per_minute(budget.failures)).allow_burst(budget.failures);
        let (kept, clock) = (Kept::default(), Ours(clock.clone()));
        let start = clock.now();
        let store = Spent { kept: kept.clone(), most: most.max(8) };
        Self { limiter: RateLimiter::new(quota, store, clock), step: step.into(), start, kept }
    }

    /// Whether there is anything left for the key; otherwise how long until there is.
    pub(super) fn has_left(&self, key: &K) -> Result<(), Duration> {
        self.tried(key, false)
    }

    /// Counts a failure if there is anything left.
    pub(super) fn count(&self, key: &K) -> Result<(), Duration> {
        self.tried(key, true)
    }

    fn tried(&self, key: &K, counts: bool) -> Result<(), Duration> {
        let checked = self.limiter.check_key(&Try { key: key.clone(), counts });
        checked.map_err(|wait| wait.wait_time_from(self.limiter.clock().now()))
    }

    /// Takes a failure back.
    pub(super) fn give_back(&self, key: &K) {
        let now = self.limiter.clock().now().duration_since(self.start);
        let mut kept = locked(&self.kept);
        if let Some(time) = kept.get_mut(key) {
            *time = time.saturating_sub(self.step);
            if time.as_u64() <= now.as_u64() {
                kept.remove(key);
            }
        }
    }

    #[cfg(test)]
    pub(super) fn len(&self) -> usize {
        locked(&self.kept).len()
    }
}
