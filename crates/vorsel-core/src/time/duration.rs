//! Spans of time as people write them.

use std::time::Duration;

/// Why a text is no span of time.
///
/// ```
/// let error = vorsel_core::read_duration("10 parsecs").unwrap_err();
/// assert_eq!(
///     error.to_string(),
///     "expected a duration such as 500ms, 90s, 10m, 2h or 1d, or a number of seconds, but found \"10 \
///      parsecs\"",
/// );
/// ```
#[derive(Clone, PartialEq, Eq, thiserror::Error)]
#[error("expected a duration such as 500ms, 90s, 10m, 2h or 1d, or a number of seconds, but found {found:?}")]
pub struct DurationError {
    found: String,
}

readable_debug!(DurationError);

/// How much of a text is shown that is no span.
const LONGEST: usize = 80;

/// The units of a duration, the largest first.
pub(crate) const UNITS: [(u64, &str); 4] = [(86_400, "d"), (3_600, "h"), (60, "m"), (1, "s")];

/// A whole number of days, hours, minutes or seconds.
pub(crate) fn of_unit(word: &str) -> Option<Duration> {
    let (seconds, count) = UNITS.iter().find_map(|(seconds, unit)| Some((seconds, word.strip_suffix(unit)?)))?;
    Some(Duration::from_secs(whole(count)?.checked_mul(*seconds)?))
}

fn whole(count: &str) -> Option<u64> {
    count.bytes().all(|byte| byte.is_ascii_digit()).then(|| count.parse().ok())?
}

/// Reads a span of time: `500ms`, `90s`, `10m`, `2h`, `1d`; a bare number is one of seconds.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::read_duration;
///
/// assert_eq!(read_duration("10m")?, Duration::from_secs(600));
/// assert_eq!(read_duration("30")?, Duration::from_secs(30));
/// assert!(read_duration("ten").is_err());
/// # Ok::<(), vorsel_core::DurationError>(())
/// ```
///
/// # Errors
/// If it is something else, or too long to be counted.
pub fn read_duration(text: &str) -> Result<Duration, DurationError> {
    let milliseconds = || text.strip_suffix("ms").and_then(whole).map(Duration::from_millis);
    let seconds = || whole(text).map(Duration::from_secs);
    let span = milliseconds().or_else(|| of_unit(text)).or_else(seconds);
    span.ok_or_else(|| DurationError { found: text.chars().take(LONGEST).collect() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_read_as_people_write_them() {
        for (text, milliseconds) in [
            ("0", Some(0)),
            ("300", Some(300_000)),
            ("500ms", Some(500)),
            ("90s", Some(90_000)),
            ("10m", Some(600_000)),
            ("2h", Some(7_200_000)),
            ("1d", Some(86_400_000)),
            ("", None),
            ("m", None),
            ("ms", None),
            ("-1", None),
            ("+1", None),
            ("1.5h", None),
            ("10 m", None),
            ("10M", None),
            ("1h30m", None),
            ("99999999999999999999", None),
            ("999999999999999999d", None),
        ] {
            let read = read_duration(text).ok().map(|span| span.as_millis());
            assert_eq!(read, milliseconds, "{text}");
        }
    }
}
