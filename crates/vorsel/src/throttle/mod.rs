//! What keeps guessers from guessing on: failures are counted, not successes.

#[cfg(feature = "password")]
mod budget;
#[cfg(feature = "password")]
mod memory;
#[cfg(feature = "password")]
mod table;

use std::net::IpAddr;
use std::time::Duration;

#[cfg(feature = "password")]
pub use budget::Budget;
#[cfg(feature = "password")]
pub use memory::{MemoryThrottle, ThrottleLimits};

/// Somebody who tries to get in.
///
/// ```
/// use vorsel::{Attempt, MemoryThrottle, Throttle, Who};
///
/// let throttle = MemoryThrottle::new()?;
/// let mut attempt = Attempt::default();
/// attempt.who = Some(Who::Subject("obs-0017"));
/// let passed = throttle.reserve(&attempt).expect("nobody has failed yet");
/// throttle.give_back(&attempt, passed);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, Default)]
#[non_exhaustive]
pub struct Attempt<'a> {
    /// Where the attempt comes from, if that is known.
    pub address: Option<IpAddr>,
    /// Whom the attempt is about, once that is known.
    pub who: Option<Who<'a>>,
    /// The mark that was given to the device when somebody got in there, as it is shown.
    pub mark: Option<&'a str>,
}

/// Whom an attempt is about.
///
/// ```
/// use vorsel::Who;
///
/// assert_ne!(Who::Subject("archive"), Who::Client("archive"), "each has a budget of its own");
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Who<'a> {
    /// A person: the subject that the app knows, or what was typed where it knows none.
    Subject(&'a str),
    /// A client that shows credentials of its own.
    Client(&'a str),
}

/// How an attempt was let pass.
///
/// ```
/// use vorsel::{Attempt, MemoryThrottle, Passed, Throttle};
///
/// let passed = MemoryThrottle::new()?.reserve(&Attempt::default());
/// assert_eq!(passed, Ok(Passed::AsAnybody));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Passed {
    /// Within the budgets of all.
    AsAnybody,
    /// By an address or a device that got in before, within a budget of its own.
    AsKnown,
}

/// Counts failed attempts, and says when it is enough. An implementation of the app's own may share its counts between instances; the
/// ready one is `MemoryThrottle`.
///
/// Each attempt is reserved before its password is checked, so that many at once are no way around a budget, and given back unless it
/// failed.
///
/// ```
/// use std::time::Duration;
/// use vorsel::{Attempt, Passed, Throttle};
///
/// /// While the office is closed nobody signs in.
/// struct Closed;
///
/// impl Throttle for Closed {
///     fn admits(&self, _: &Attempt<'_>) -> Result<(), Duration> {
///         Err(Duration::from_secs(3_600))
///     }
///     fn reserve(&self, _: &Attempt<'_>) -> Result<Passed, Duration> {
///         Err(Duration::from_secs(3_600))
///     }
///     fn succeeded(&self, _: &Attempt<'_>, _: Passed) -> Option<String> {
///         None
///     }
///     fn give_back(&self, _: &Attempt<'_>, _: Passed) {}
///     fn failed(&self, _: &Attempt<'_>) {}
///     fn got_in(&self, _: &Attempt<'_>) {}
/// }
/// ```
pub trait Throttle: Send + Sync {
    /// Whether an attempt may go on as far as is known of it, without counting it. It is asked before the app is asked for anything, and,
    /// once it is known, of a client that shows credentials.
    ///
    /// # Errors
    /// How long until it may be tried again.
    fn admits(&self, attempt: &Attempt<'_>) -> Result<(), Duration>;

    /// Counts an attempt as failed until something else is known.
    ///
    /// # Errors
    /// How long until it may be tried again; then nothing is counted.
    fn reserve(&self, attempt: &Attempt<'_>) -> Result<Passed, Duration>;

    /// The attempt got in: it does not count, and whoever comes from the same address, or shows the mark that this returns, is known from
    /// now on.
    fn succeeded(&self, attempt: &Attempt<'_>, passed: Passed) -> Option<String>;

    /// Nothing came of the attempt, so it does not count.
    fn give_back(&self, attempt: &Attempt<'_>, passed: Passed);

    /// Counts a failure that was not reserved.
    fn failed(&self, attempt: &Attempt<'_>);

    /// Somebody got in without having been reserved, a client for instance, and is known at that address from now on.
    fn got_in(&self, attempt: &Attempt<'_>);
}
