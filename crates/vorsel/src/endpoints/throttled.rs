//! Where a request comes from, and whether it may try.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use axum::extract::ConnectInfo;
use http::{Extensions, HeaderMap};

#[cfg(feature = "password")]
use super::going::Going;
use super::reply::Refused;
use super::state::Shared;
use crate::audit::cut;
use crate::throttle::{Attempt, Who};
#[cfg(feature = "password")]
use crate::throttle::{Passed, Throttle};

impl<C> Shared<C> {
    /// The address of whoever has sent a request: what the app's own proxies say, or the other side of the connection, if the app is
    /// served with connection info.
    pub(super) fn caller_of(&self, headers: &HeaderMap, extensions: &Extensions) -> Option<IpAddr> {
        let connected = extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip());
        let address = match &self.forwarded {
            Some(forwarded) => forwarded.address(headers).or(connected),
            None => connected,
        };
        if address.is_none() && self.throttle.is_some() {
            self.told_of_no_address.call_once(|| {
                tracing::warn!(
                    target: "vorsel::throttle",
                    "nobody has an address here, so none is throttled: serve the app with \
                     into_make_service_with_connect_info::<SocketAddr>(), or set Endpoints::forwarded",
                );
            });
        }
        address
    }

    /// Whether it may go on as far as is known of it.
    pub(super) fn admits(&self, attempt: &Attempt<'_>) -> Result<(), Refused> {
        let Some(throttle) = &self.throttle else { return Ok(()) };
        let what = if attempt.who.is_some() { "client or address" } else { "address" };
        throttle.admits(attempt).map_err(|wait| blocked(attempt, what, wait))
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
        let going = Going::of(&self.going, attempt);
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
                return Err(Refused::busy(reason));
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

    pub(super) fn got_in(&self, attempt: &Attempt<'_>) {
        if let Some(throttle) = &self.throttle {
            throttle.got_in(attempt);
        }
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
