//! Moments and lifetimes. Nothing here reads a clock: `now` is always handed in.

mod duration;
mod offset;

use std::fmt;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::de::{Error, Unexpected};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

pub use duration::{DurationError, read_duration};
pub(crate) use duration::{UNITS, of_unit};
pub use offset::ClockOffset;

/// A moment in microseconds since 1970-01-01T00:00:00Z, the epoch of a NumericDate
/// ([RFC 7519 section 2](https://www.rfc-editor.org/rfc/rfc7519#section-2)).
///
/// Fractions of a second count. A number too large for the type stands for the first or the last moment it
/// can hold, about 292,000 years away, which every comparison treats as intended.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::Timestamp;
///
/// let moment = Timestamp::from_secs(1_800_000_000);
/// assert_eq!(moment.after(Duration::from_secs(60)).as_secs(), 1_800_000_060);
/// assert_eq!(moment.to_string(), "2027-01-15T08:00:00Z");
/// ```
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Timestamp(i64);

const MICROS: i64 = 1_000_000;

/// The largest clock skew that a verifier can be set to: more would be a longer lifetime under another name.
pub(crate) const LARGEST_SKEW: Duration = Duration::from_secs(300);

impl Timestamp {
    /// The first moment the type can hold.
    pub const MIN: Self = Self(i64::MIN);
    /// The last moment the type can hold.
    pub const MAX: Self = Self(i64::MAX);

    /// The moment that many seconds after the epoch.
    #[must_use]
    pub const fn from_secs(seconds: i64) -> Self {
        Self(seconds.saturating_mul(MICROS))
    }

    /// The moment that many microseconds after the epoch.
    #[must_use]
    pub const fn from_micros(micros: i64) -> Self {
        Self(micros)
    }

    /// The moment that many seconds, with their fraction, after the epoch.
    #[must_use]
    pub fn from_secs_f64(seconds: f64) -> Self {
        // `as` saturates, and turns NaN into zero: the epoch, long past.
        Self((seconds * MICROS as f64).floor() as i64)
    }

    /// Whole seconds since the epoch, rounded down.
    #[must_use]
    pub const fn as_secs(self) -> i64 {
        self.0.div_euclid(MICROS)
    }

    /// Microseconds since the epoch.
    #[must_use]
    pub const fn as_micros(self) -> i64 {
        self.0
    }

    /// The same moment without its fraction of a second, as tokens carry it.
    #[must_use]
    pub const fn whole_secs(self) -> Self {
        Self::from_secs(self.as_secs())
    }

    /// The next whole second, or this one if it is whole: a date that must not be early.
    #[must_use]
    pub fn next_whole_sec(self) -> Self {
        let whole = self.whole_secs();
        if whole == self { self } else { whole.after(Duration::from_secs(1)) }
    }

    /// This much later, or the last moment the type can hold.
    #[must_use]
    pub fn after(self, span: Duration) -> Self {
        Self(self.0.saturating_add(span_micros(span)))
    }

    /// This much earlier, or the first moment the type can hold.
    #[must_use]
    pub fn before(self, span: Duration) -> Self {
        Self(self.0.saturating_sub(span_micros(span)))
    }

    /// How far this moment is from `other`, whichever comes first.
    #[must_use]
    pub fn distance(self, other: Self) -> Duration {
        Duration::from_micros(self.0.abs_diff(other.0))
    }
}

fn span_micros(span: Duration) -> i64 {
    i64::try_from(span.as_micros()).unwrap_or(i64::MAX)
}

impl fmt::Display for Timestamp {
    /// RFC 3339 in UTC, a fraction to the millisecond; plain seconds for years past 9999.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match jiff::Timestamp::from_microsecond(self.0) {
            Ok(date) if self.0 % MICROS == 0 => write!(f, "{date}"),
            Ok(date) => write!(f, "{date:.3}"),
            Err(_) => write!(f, "{} s after 1970", self.as_secs()),
        }
    }
}

impl fmt::Debug for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl From<SystemTime> for Timestamp {
    /// To the microsecond, rounded down.
    fn from(time: SystemTime) -> Self {
        let epoch = Self::from_secs(0);
        match time.duration_since(UNIX_EPOCH) {
            Ok(since) => epoch.after(since),
            Err(before) => {
                let before = before.duration();
                let is_whole = before.subsec_nanos() % 1_000 == 0;
                let earlier = epoch.before(before);
                if is_whole { earlier } else { earlier.before(Duration::from_micros(1)) }
            }
        }
    }
}

impl From<Timestamp> for SystemTime {
    fn from(moment: Timestamp) -> Self {
        let distance = Duration::from_micros(moment.0.unsigned_abs());
        if moment.0 < 0 { UNIX_EPOCH - distance } else { UNIX_EPOCH + distance }
    }
}

impl Serialize for Timestamp {
    /// A NumericDate: seconds, with a fraction if there is one.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if self.0 % MICROS == 0 {
            serializer.serialize_i64(self.as_secs())
        } else {
            serializer.serialize_f64(self.0 as f64 / MICROS as f64)
        }
    }
}

impl<'de> Deserialize<'de> for Timestamp {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let number = serde_json::Number::deserialize(deserializer)?;
        let fraction = || number.as_f64().map(|seconds| Self::from_micros((seconds * MICROS as f64).round() as i64));
        number.as_i64().map(Self::from_secs).or_else(fraction).ok_or_else(|| D::Error::custom("expected seconds"))
    }
}

/// How long a token is good for. There is no lifetime of zero and no lifetime without end.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::Lifetime;
///
/// assert_eq!(Lifetime::try_from(Duration::from_secs(300))?, Lifetime::minutes(5));
/// assert!(Lifetime::try_from(Duration::ZERO).is_err());
/// # Ok::<(), vorsel_core::LifetimeError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Lifetime(Duration);

/// A lifetime of less than a second or of more than ten years.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::Lifetime;
///
/// let error = Lifetime::try_from(Duration::ZERO).unwrap_err();
/// assert_eq!(error.to_string(), "expected a lifetime from 1 second to 10 years, but found 0 s");
/// ```
#[derive(Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("expected a lifetime from 1 second to 10 years, but found {} s", .found.as_secs_f64())]
pub struct LifetimeError {
    /// What was asked for.
    pub found: Duration,
}

readable_debug!(LifetimeError);

impl Lifetime {
    /// Ten years.
    pub const LONGEST: Self = Self::days(3_660);

    /// That many seconds.
    ///
    /// # Panics
    /// If `count` is zero; use [`TryFrom<Duration>`] for a number that is not a literal.
    #[must_use]
    pub const fn seconds(count: u16) -> Self {
        assert!(count > 0, "a lifetime has at least one second");
        Self(Duration::from_secs(count as u64))
    }

    /// That many minutes.
    ///
    /// # Panics
    /// If `count` is zero; use [`TryFrom<Duration>`] for a number that is not a literal.
    #[must_use]
    pub const fn minutes(count: u16) -> Self {
        assert!(count > 0, "a lifetime has at least one second");
        Self(Duration::from_secs(count as u64 * 60))
    }

    /// That many days, at most 3,660.
    ///
    /// # Panics
    /// If `count` is zero or above 3,660; use [`TryFrom<Duration>`] for a number that is not a literal.
    #[must_use]
    pub const fn days(count: u16) -> Self {
        assert!(count > 0 && count <= 3_660, "a lifetime is from one second to ten years");
        Self(Duration::from_secs(count as u64 * 86_400))
    }

    /// The lifetime as a duration.
    #[must_use]
    pub const fn as_duration(self) -> Duration {
        self.0
    }

    /// The lifetime in whole seconds, rounded down.
    #[must_use]
    pub const fn as_secs(self) -> u64 {
        self.0.as_secs()
    }
}

impl TryFrom<Duration> for Lifetime {
    type Error = LifetimeError;

    fn try_from(found: Duration) -> Result<Self, LifetimeError> {
        if found < Duration::from_secs(1) || found > Self::LONGEST.0 {
            return Err(LifetimeError { found });
        }
        Ok(Self(found))
    }
}

impl Serialize for Lifetime {
    /// In whole seconds.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_u64(self.as_secs())
    }
}

impl<'de> Deserialize<'de> for Lifetime {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let seconds = u64::deserialize(deserializer)?;
        let wrong = |_| D::Error::invalid_value(Unexpected::Unsigned(seconds), &"from 1 to 316224000 seconds");
        Self::try_from(Duration::from_secs(seconds)).map_err(wrong)
    }
}

/// A span as people say it: `4 minutes`, `1 second`, `3 days`; the largest unit that fits, rounded down.
#[must_use]
pub fn spoken(span: Duration) -> String {
    const UNITS: [(u64, &str); 4] = [(86_400, "day"), (3_600, "hour"), (60, "minute"), (1, "second")];
    let seconds = span.as_secs();
    match UNITS.iter().find(|(size, _)| seconds >= *size) {
        None => format!("{} ms", span.as_millis()),
        Some((size, unit)) => {
            let count = seconds / size;
            format!("{count} {unit}{}", if count == 1 { "" } else { "s" })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_print_as_utc_dates() {
        assert_eq!(Timestamp::from_secs(0).to_string(), "1970-01-01T00:00:00Z");
        assert_eq!(Timestamp::from_secs_f64(0.5).to_string(), "1970-01-01T00:00:00.500Z");
        assert_eq!(Timestamp::MAX.to_string(), "9223372036854 s after 1970");
    }

    #[test]
    fn lifetimes_have_a_floor_and_a_ceiling() {
        for (span, fine) in [
            (Duration::from_millis(999), false),
            (Duration::from_secs(1), true),
            (Lifetime::LONGEST.0, true),
            (Lifetime::LONGEST.0 + Duration::from_secs(1), false),
        ] {
            assert_eq!(Lifetime::try_from(span).is_ok(), fine, "{span:?}");
        }
    }

    #[test]
    fn spans_are_spoken_in_their_largest_unit() {
        for (seconds, said) in [(1, "1 second"), (119, "1 minute"), (240, "4 minutes"), (90_000, "1 day")] {
            assert_eq!(spoken(Duration::from_secs(seconds)), said);
        }
        assert_eq!(spoken(Duration::from_millis(20)), "20 ms");
    }
}
