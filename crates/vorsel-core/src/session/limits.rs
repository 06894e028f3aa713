//! How long sessions last, and how many there may be.

use std::num::NonZeroU32;
use std::time::Duration;

use crate::time::Lifetime;

/// How long sessions last.
///
/// ```
/// use std::num::NonZeroU32;
/// use vorsel_core::{Beyond, Lifetime, PerSubject, SessionLimits};
///
/// let per_subject = NonZeroU32::new(5).map(|most| PerSubject { most, beyond: Beyond::EndOldest });
/// let limits = SessionLimits { idle: Lifetime::days(7), per_subject, ..SessionLimits::default() };
/// assert_eq!(limits.retry_window.as_secs(), 10);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct SessionLimits {
    /// How long a session lasts without being renewed.
    pub idle: Lifetime,
    /// How long a session lasts however often it is renewed.
    pub absolute: Lifetime,
    /// For how long after it was spent a refresh token may come again and gets the same successor. Zero is strict: then a
    /// lost reply signs the user out.
    pub retry_window: Duration,
    /// How many sessions a subject may have at once; any number if nothing is set.
    pub per_subject: Option<PerSubject>,
}

/// A limit on the sessions of one subject.
///
/// ```
/// use std::num::NonZeroU32;
/// use vorsel_core::{Beyond, PerSubject};
///
/// let three_devices = PerSubject { most: NonZeroU32::new(3).expect("not none"), beyond: Beyond::EndOldest };
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct PerSubject {
    /// How many sessions there may be.
    pub most: NonZeroU32,
    /// What a sign-in beyond that leads to.
    pub beyond: Beyond,
}

/// What a sign-in beyond the limit leads to.
///
/// ```
/// use std::num::NonZeroU32;
/// use vorsel_core::{Beyond, PerSubject, SessionLimits};
///
/// let one = PerSubject { most: NonZeroU32::MIN, beyond: Beyond::Refuse };
/// let limits = SessionLimits { per_subject: Some(one), ..SessionLimits::default() };
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Beyond {
    /// It is refused.
    Refuse,
    /// The session that began first ends.
    EndOldest,
}

impl Default for SessionLimits {
    /// 14 days idle, 90 days in all, 10 seconds to retry, any number of sessions.
    fn default() -> Self {
        let retry_window = Duration::from_secs(10);
        Self { idle: Lifetime::days(14), absolute: Lifetime::days(90), retry_window, per_subject: None }
    }
}
