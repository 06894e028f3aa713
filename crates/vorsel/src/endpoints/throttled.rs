//! Where a request comes from, and whether it may try.

#[cfg(feature = "password")]
use std::collections::HashMap;
#[cfg(feature = "password")]
use std::hash::{BuildHasher, RandomState};
use std::net::{IpAddr, SocketAddr};
#[cfg(feature = "password")]
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use axum::extract::ConnectInfo;
use http::{Extensions, HeaderMap, HeaderName};

use super::reply::Refused;
use super::state::Shared;
use crate::audit::cut;
use crate::throttle::{Attempt, Who};
#[cfg(feature = "password")]
use crate::throttle::{Passed, Throttle};

/// The header in which proxies of the app's own say where a request comes from, and how many of them there are.
#[derive(Clone, Debug)]
pub(super) struct Forwarded {
    pub(super) header: HeaderName,
    pub(super) proxies: usize,
}

impl Forwarded {
    /// The address that the outermost of the app's own proxies has seen: as many from the right as there are proxies. What stands further
    /// left, anybody may have written.
    fn address(&self, headers: &HeaderMap) -> Option<IpAddr> {
        let values = headers.get_all(&self.header).iter().filter_map(|value| value.to_str().ok());
        let all: Vec<&str> = values.flat_map(|value| value.split(',')).map(str::trim).collect();
        let text = all.len().checked_sub(self.proxies).and_then(|at| all.get(at))?;
        let bare = text.trim_start_matches('[').split(']').next().unwrap_or_default();
        let with_port = || text.parse::<SocketAddr>().ok().map(|address| address.ip());
        with_port().or_else(|| bare.parse().ok())
    }
}

impl<C> Shared<C> {
    /// The address of whoever has sent a request: what the app's own proxies say, or the other side of the connection, if the app is
    /// served with connection info.
    pub(super) fn caller_of(&self, headers: &HeaderMap, extensions: &Extensions) -> Option<IpAddr> {
        let connected = extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
        match &self.forwarded {
            Some(forwarded) => forwarded.address(headers).or(connected),
            None => connected,
        }
    }

    /// Whether it may go on as far as is known of it.
    pub(super) fn admits(&self, attempt: &Attempt<'_>) -> Result<(), Refused> {
        let Some(throttle) = &self.throttle else { return Ok(()) };
        throttle.admits(attempt).map_err(|wait| blocked(attempt, "address", wait))
    }

    /// [`admits`](Self::admits), once the attempts that are still going on from the same address have got in or have not.
    #[cfg(feature = "password")]
    pub(super) async fn admits_in_turn(&self, attempt: &Attempt<'_>) -> Result<(), Refused> {
        self.in_turn(attempt, |throttle| throttle.admits(attempt)).await.map(drop)
    }

    /// Counts an attempt as failed until something else is known, once those that are still going on have got in or have not.
    #[cfg(feature = "password")]
    pub(super) async fn reserve(&self, attempt: &Attempt<'_>) -> Result<(Passed, Going<'_>), Refused> {
        let (passed, going) = self.in_turn(attempt, |throttle| throttle.reserve(attempt)).await?;
        Ok((passed.unwrap_or(Passed::AsAnybody), going.begin()))
    }

    /// What the throttle says. Where the budget is used up by attempts that are still going on, those are waited for.
    #[cfg(feature = "password")]
    async fn in_turn<T>(
        &self,
        attempt: &Attempt<'_>,
        ask: impl Fn(&dyn Throttle) -> Result<T, Duration>,
    ) -> Result<(Option<T>, Going<'_>), Refused> {
        let going = Going::keys(&self.going, attempt);
        let Some(throttle) = &self.throttle else { return Ok((None, going)) };
        let (until, mut waits) = (tokio::time::Instant::now() + LONGEST_WAIT, None);
        loop {
            let wait = match ask(&**throttle) {
                Ok(said) => return Ok((Some(said), going)),
                Err(wait) => wait,
            };
            if !going.has_others() {
                return Err(blocked(attempt, "subject or address", wait));
            }
            waits = waits.or_else(|| self.waiting.try_acquire().ok());
            if waits.is_none() || tokio::time::Instant::now() > until {
                let reason = "more sign-ins than failures are allowed are going on for this subject or address";
                return Err(Refused::unavailable(Some(reason.to_owned())));
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    #[cfg(feature = "password")]
    pub(super) fn give_back(&self, attempt: &Attempt<'_>, passed: Passed) {
        if let Some(throttle) = &self.throttle {
            throttle.give_back(attempt, passed);
        }
    }

    #[cfg(feature = "password")]
    pub(super) fn succeeded(&self, attempt: &Attempt<'_>, passed: Passed) -> Option<String> {
        self.throttle.as_ref()?.succeeded(attempt, passed)
    }

    pub(super) fn failed(&self, attempt: &Attempt<'_>) {
        if let Some(throttle) = &self.throttle {
            throttle.failed(attempt);
        }
    }
}

/// For this long an attempt waits for others that are going on.
#[cfg(feature = "password")]
const LONGEST_WAIT: Duration = Duration::from_secs(5);
#[cfg(feature = "password")]
const PAUSE: Duration = Duration::from_millis(20);
/// So many wait at most.
#[cfg(feature = "password")]
pub(super) const MOST_WAITING: usize = 512;

/// How many attempts are going on, by subject and by address.
#[cfg(feature = "password")]
#[derive(Default)]
pub(super) struct GoingOn {
    hasher: RandomState,
    counts: Mutex<HashMap<u64, u32>>,
}

/// An attempt that is going on.
#[cfg(feature = "password")]
pub(super) struct Going<'g> {
    all: &'g GoingOn,
    keys: [Option<u64>; 2],
    has_begun: bool,
}

#[cfg(feature = "password")]
impl<'g> Going<'g> {
    fn keys(all: &'g GoingOn, attempt: &Attempt<'_>) -> Self {
        let who = attempt.who.map(|who| match who {
            Who::Subject(name) => all.hasher.hash_one(("subject", name)),
            Who::Client(name) => all.hasher.hash_one(("client", name)),
        });
        let address = attempt.address.map(|address| all.hasher.hash_one(("address", address)));
        Self { all, keys: [who, address], has_begun: false }
    }

    fn begin(mut self) -> Self {
        let mut counts = self.all.counts();
        self.keys.iter().flatten().for_each(|key| *counts.entry(*key).or_default() += 1);
        drop(counts);
        self.has_begun = true;
        self
    }

    fn has_others(&self) -> bool {
        let counts = self.all.counts();
        self.keys.iter().flatten().any(|key| counts.contains_key(key))
    }
}

#[cfg(feature = "password")]
impl GoingOn {
    fn counts(&self) -> std::sync::MutexGuard<'_, HashMap<u64, u32>> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(feature = "password")]
impl Drop for Going<'_> {
    fn drop(&mut self) {
        if !self.has_begun {
            return;
        }
        let mut counts = self.all.counts();
        for key in self.keys.iter().flatten() {
            if let Some(count) = counts.get_mut(key) {
                *count -= 1;
                if *count == 0 {
                    counts.remove(key);
                }
            }
        }
    }
}

fn blocked(attempt: &Attempt<'_>, what: &str, wait: Duration) -> Refused {
    let address = attempt.address.map(tracing::field::display);
    let (subject, client) = match attempt.who {
        Some(Who::Subject(name)) => (Some(cut(name)), None),
        Some(Who::Client(name)) => (None, Some(cut(name))),
        None => (None, None),
    };
    let seconds = wait.as_secs().saturating_add(1);
    tracing::warn!(
        target: "vorsel::throttle", subject, client, address, retry_after = seconds,
        "throttled: too many failures of this {what}",
    );
    Refused::throttled(Duration::from_secs(seconds))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_forwarded_address_is_counted_from_the_right() {
        for (lines, proxies, expected) in [
            (&["10.0.0.1"][..], 1, Some("10.0.0.1")),
            (&["6.6.6.6, 10.0.0.1"], 1, Some("10.0.0.1")),
            (&["6.6.6.6, 10.0.0.1, 10.9.9.9"], 2, Some("10.0.0.1")),
            (&["6.6.6.6", "10.0.0.1,10.9.9.9"], 2, Some("10.0.0.1")),
            (&["10.0.0.1"], 2, None),
            (&[], 1, None),
            (&["nonsense"], 1, None),
            (&["10.0.0.1:4711"], 1, Some("10.0.0.1")),
            (&["[2001:db8::1]:4711"], 1, Some("2001:db8::1")),
            (&["[2001:db8::1]"], 1, Some("2001:db8::1")),
            (&["2001:db8::1"], 1, Some("2001:db8::1")),
            (&["10.0.0.1"], 0, None),
        ] {
            let mut headers = HeaderMap::new();
            for line in lines {
                headers.append("x-forwarded-for", line.parse().expect("a header"));
            }
            let forwarded = Forwarded { header: HeaderName::from_static("x-forwarded-for"), proxies };
            let expected = expected.map(|text| text.parse().expect("an address"));
            assert_eq!(forwarded.address(&headers), expected, "{lines:?} {proxies}");
        }
    }
}
