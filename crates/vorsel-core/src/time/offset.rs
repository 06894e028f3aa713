//! How far one clock is from another, measured by asking it.

use std::fmt;
use std::time::Duration;

use super::Timestamp;

/// How far this machine's clock is behind another one; below zero it is ahead. In microseconds.
///
/// ```
/// use vorsel_core::{ClockOffset, Timestamp};
///
/// let [asked, heard] = [1_700_000_000, 1_700_000_001].map(Timestamp::from_secs);
/// let there = Timestamp::from_secs(1_700_000_030);
/// let offset = ClockOffset::default().measured(asked, there, heard);
/// assert_eq!(offset.there(heard), there);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct ClockOffset(i64);

impl ClockOffset {
    /// That many microseconds.
    #[must_use]
    pub const fn from_micros(micros: i64) -> Self {
        Self(micros)
    }

    /// In microseconds.
    #[must_use]
    pub const fn as_micros(self) -> i64 {
        self.0
    }

    /// How much it is, whichever clock is ahead.
    #[must_use]
    pub const fn size(self) -> Duration {
        Duration::from_micros(self.0.unsigned_abs())
    }

    /// The moment by the other clock at which this one shows `moment`.
    #[must_use]
    pub const fn there(self, moment: Timestamp) -> Timestamp {
        Timestamp::from_micros(moment.as_micros().saturating_add(self.0))
    }

    /// What is known after the other clock was asked at `asked_at`, said `told`, and was heard at `heard_at`: it was asked
    /// somewhere in between, so an offset that is possible stays, and another one becomes the nearest that is. An answer that
    /// took long says little and changes little. If this clock was set back meanwhile, nothing is known.
    #[must_use]
    pub fn measured(self, asked_at: Timestamp, told: Timestamp, heard_at: Timestamp) -> Self {
        let from = |moment: Timestamp| told.as_micros().saturating_sub(moment.as_micros());
        let (least, most) = (from(heard_at), from(asked_at));
        if least > most { self } else { Self(self.0.clamp(least, most)) }
    }
}

impl fmt::Display for ClockOffset {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let seconds = self.size().as_secs_f64();
        match self.0 {
            0 => f.write_str("not off"),
            1.. => write!(f, "{seconds:.3} s behind"),
            _ => write!(f, "{seconds:.3} s ahead"),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// However long answers take, the offset is off by no more than the quickest one took; and where clocks do not move
        /// against each other it never becomes worse.
        #[test]
        fn an_offset_is_as_exact_as_the_quickest_answer(
            real in -100_000_000_i64..100_000_000,
            trips in proptest::collection::vec((0_i64..2_000_000, 0_i64..2_000_000), 1..20),
        ) {
            let (mut offset, mut now, mut error) = (ClockOffset::default(), 1_000_000_000, i64::MAX);
            for (there, back) in trips {
                let at = Timestamp::from_micros;
                offset = offset.measured(at(now), at(now + there + real), at(now + there + back));
                let left = (offset.as_micros() - real).abs();
                prop_assert!(left <= there + back && left <= error, "{left} of {}", there + back);
                (now, error) = (now + there + back, left);
            }
        }
    }

    #[test]
    fn an_offset_moves_no_more_than_it_must_and_says_which_way_it_is() {
        let at = Timestamp::from_micros;
        let measured = |offset, told| ClockOffset::from_micros(offset).measured(at(100), at(told), at(140)).as_micros();
        for (offset, told, expected) in [
            (0, 100, 0),
            (0, 120, 0),
            (0, 140, 0),
            (0, 141, 1),
            (0, 99, -1),
            (7, 110, 7),
            (50, 120, 20),
            (-90, 120, -20),
        ] {
            assert_eq!(measured(offset, told), expected, "{offset} after {told}");
        }
        let set_back = ClockOffset::from_micros(5).measured(at(140), at(0), at(100));
        assert_eq!(set_back.as_micros(), 5);
        let shown = [0, 1_500_000, -2_000].map(|micros| ClockOffset::from_micros(micros).to_string());
        assert_eq!(shown, ["not off", "1.500 s behind", "0.002 s ahead"]);
        assert_eq!(ClockOffset::from_micros(-5).there(at(100)), at(95));
        assert_eq!(ClockOffset::from_micros(i64::MIN).size().as_micros(), 1 << 63);
        assert_eq!(ClockOffset::default().measured(at(i64::MIN), at(i64::MAX), at(i64::MAX)).as_micros(), 0);
    }
}
