//! Figures through the `metrics` facade. Every handle is made once, at its first use, and kept; without the feature all of this is
//! nothing.

use vorsel_core::{Keyring, Timestamp};

#[cfg(not(feature = "metrics"))]
pub(crate) use off::{Codes, Decisions, Once, Wait};
#[cfg(feature = "metrics")]
pub(crate) use on::{Codes, Decisions, Once, Wait};

#[cfg(feature = "metrics")]
mod on {
    use std::collections::BTreeMap;
    use std::sync::{OnceLock, PoisonError, RwLock};
    use std::time::Duration;

    use metrics::{Counter, Histogram, counter, histogram};
    use vorsel_core::AccessPlan;

    /// A counter that is made at its first use.
    pub(crate) struct Once(OnceLock<Counter>);

    impl Once {
        pub(crate) const fn new() -> Self {
            Self(OnceLock::new())
        }

        #[inline]
        pub(crate) fn count(&self, make: impl FnOnce() -> Counter) {
            self.0.get_or_init(make).increment(1);
        }
    }

    /// A counter for each code of something, of which few ever occur.
    pub(crate) struct Codes {
        name: &'static str,
        label: &'static str,
        counters: RwLock<BTreeMap<&'static str, Counter>>,
    }

    impl Codes {
        pub(crate) const fn new(name: &'static str, label: &'static str) -> Self {
            Self { name, label, counters: RwLock::new(BTreeMap::new()) }
        }

        pub(crate) fn count(&self, code: &'static str) {
            if let Some(counter) = self.counters.read().unwrap_or_else(PoisonError::into_inner).get(code) {
                return counter.increment(1);
            }
            let counter = counter!(self.name, self.label => code);
            counter.increment(1);
            self.counters.write().unwrap_or_else(PoisonError::into_inner).insert(code, counter);
        }
    }

    /// The decisions of a guard, by the plan's entry and what came of it.
    pub(crate) struct Decisions {
        /// Method and path of each entry, with the counter of what was let in by it.
        passed: Vec<(String, String, Once)>,
        stopped: RwLock<BTreeMap<(Option<usize>, &'static str), Counter>>,
    }

    const DECISIONS: &str = "vorsel_decisions_total";

    impl Decisions {
        pub(crate) fn of(plan: &AccessPlan) -> Self {
            let entry = |route: &vorsel_core::Route| (route.method().to_owned(), route.path().to_owned(), Once::new());
            Self { passed: plan.routes().iter().map(entry).collect(), stopped: RwLock::default() }
        }

        #[inline]
        pub(crate) fn passed(&self, entry: Option<usize>) {
            if let Some((method, route, once)) = entry.and_then(|entry| self.passed.get(entry)) {
                once.count(
                    || counter!(DECISIONS, "method" => method.clone(), "route" => route.clone(), "code" => "passed"),
                );
            }
        }

        pub(crate) fn stopped(&self, entry: Option<usize>, code: &'static str) {
            let key = (entry, code);
            if let Some(counter) = self.stopped.read().unwrap_or_else(PoisonError::into_inner).get(&key) {
                return counter.increment(1);
            }
            // A path that no entry has is a stranger's to choose, and no label.
            let (method, route) = entry
                .and_then(|entry| self.passed.get(entry))
                .map_or((String::new(), String::new()), |(method, route, _)| (method.clone(), route.clone()));
            let counter = counter!(DECISIONS, "method" => method, "route" => route, "code" => code);
            counter.increment(1);
            self.stopped.write().unwrap_or_else(PoisonError::into_inner).insert(key, counter);
        }
    }

    /// How long something is waited for, and how often in vain.
    pub(crate) struct Wait {
        seconds: OnceLock<Histogram>,
        failures: Once,
    }

    impl Wait {
        pub(crate) const fn new() -> Self {
            Self { seconds: OnceLock::new(), failures: Once::new() }
        }

        pub(crate) fn answered(&self, after: Duration, is_ok: bool) {
            self.seconds.get_or_init(|| histogram!("vorsel_store_seconds")).record(after);
            if !is_ok {
                self.failures.count(|| counter!("vorsel_store_failures_total"));
            }
        }
    }
}

#[cfg(not(feature = "metrics"))]
mod off {
    use std::time::Duration;

    use vorsel_core::AccessPlan;

    pub(crate) struct Once;
    pub(crate) struct Codes;
    pub(crate) struct Decisions;
    pub(crate) struct Wait;

    impl Once {
        pub(crate) const fn new() -> Self {
            Self
        }
    }

    impl Codes {
        pub(crate) const fn new(_: &'static str, _: &'static str) -> Self {
            Self
        }

        pub(crate) const fn count(&self, _: &'static str) {}
    }

    impl Decisions {
        pub(crate) const fn of(_: &AccessPlan) -> Self {
            Self
        }

        pub(crate) const fn passed(&self, _: Option<usize>) {}

        pub(crate) const fn stopped(&self, _: Option<usize>, _: &'static str) {}
    }

    impl Wait {
        pub(crate) const fn new() -> Self {
            Self
        }

        pub(crate) const fn answered(&self, _: Duration, _: bool) {}
    }
}

/// One more token that was seen before.
#[inline]
pub(crate) fn remembered(once: &Once) {
    #[cfg(feature = "metrics")]
    once.count(|| metrics::counter!("vorsel_checks_total", "outcome" => "remembered"));
    #[cfg(not(feature = "metrics"))]
    let _ = once;
}

/// A feed, the store's or an issuer's, was read to its end, and how much of it is remembered. A moment rather than an age: it stands
/// still where nobody reads any more.
pub(crate) fn feed_read(of: &str, now: Timestamp, remembered: usize) {
    #[cfg(feature = "metrics")]
    {
        metrics::gauge!("vorsel_feed_read_timestamp_seconds", "of" => of.to_owned()).set(seconds(now));
        #[expect(clippy::cast_precision_loss, reason = "a figure for people")]
        metrics::gauge!("vorsel_revocations_remembered", "of" => of.to_owned()).set(remembered as f64);
    }
    #[cfg(not(feature = "metrics"))]
    let _ = (of, now, remembered);
}

/// Another issuer's keys were fetched, or were not.
#[cfg(feature = "remote")]
pub(crate) fn keys_fetched(issuer: &str, is_ok: bool, now: Timestamp) {
    #[cfg(feature = "metrics")]
    {
        let (issuer, outcome) = (issuer.to_owned(), if is_ok { "fetched" } else { "failed" });
        if is_ok {
            metrics::gauge!("vorsel_issuer_keys_fetched_timestamp_seconds", "issuer" => issuer.clone())
                .set(seconds(now));
        }
        metrics::counter!("vorsel_issuer_key_fetches_total", "issuer" => issuer, "outcome" => outcome).increment(1);
    }
    #[cfg(not(feature = "metrics"))]
    let _ = (issuer, is_ok, now);
}

/// An issuer was asked what a token is worth.
#[cfg(feature = "remote")]
pub(crate) fn asked_about(issuer: &str, outcome: &'static str) {
    #[cfg(feature = "metrics")]
    metrics::counter!("vorsel_introspections_total", "issuer" => issuer.to_owned(), "outcome" => outcome).increment(1);
    #[cfg(not(feature = "metrics"))]
    let _ = (issuer, outcome);
}

/// A keeper asked for new tokens.
#[cfg(feature = "client")]
pub(crate) fn kept_tokens(client: &str, outcome: &'static str) {
    #[cfg(feature = "metrics")]
    metrics::counter!("vorsel_kept_token_renewals_total", "client" => client.to_owned(), "outcome" => outcome)
        .increment(1);
    #[cfg(not(feature = "metrics"))]
    let _ = (client, outcome);
}

/// The dates of every key, as moments.
pub(crate) fn keys(ring: &Keyring) {
    #[cfg(feature = "metrics")]
    for key in ring.keys() {
        let (kid, algorithm) = (key.key_id().to_owned(), key.algorithm().name());
        let date = |name: &'static str, date: Option<Timestamp>| {
            if let Some(date) = date {
                metrics::gauge!(name, "key" => kid.clone(), "algorithm" => algorithm).set(seconds(date));
            }
        };
        date("vorsel_key_published_timestamp_seconds", Some(key.published_at()));
        date("vorsel_key_signs_from_timestamp_seconds", key.active_from());
        date("vorsel_key_signs_until_timestamp_seconds", ring.deactivated_at(key.key_id()));
        date("vorsel_key_compromised_timestamp_seconds", key.compromised_at());
    }
    #[cfg(not(feature = "metrics"))]
    let _ = ring;
}

#[cfg(feature = "metrics")]
#[expect(clippy::cast_precision_loss, reason = "a figure for people")]
fn seconds(date: Timestamp) -> f64 {
    date.as_secs() as f64
}
