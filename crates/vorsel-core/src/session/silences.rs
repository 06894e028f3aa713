//! When a store answered nothing, as one instance has seen it.

use std::collections::VecDeque;
use std::time::Duration;

use crate::time::Timestamp;

/// The times in which a store gave an instance no answer at all. They do not count in the retry window: nobody could have
/// asked again with success, whether or not the token was its own. As soon as anything is answered, a silence is over.
///
/// The last [`MOST`](Self::MOST) that took a second or more are known, which is what a token spent shortly before now may depend
/// on.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::{Silences, Timestamp};
///
/// let [start, end] = [0, 12].map(|second| Timestamp::from_secs(1_700_000_000 + second));
/// let mut silences = Silences::default();
/// silences.failed(start);
/// silences.heard(end);
/// assert_eq!(silences.between(start, end), Duration::from_secs(12));
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Silences {
    over: VecDeque<(Timestamp, Timestamp)>,
    since: Option<Timestamp>,
    heard_at: Option<Timestamp>,
}

impl Silences {
    /// How many are known.
    pub const MOST: usize = 16;
    /// Shorter ones come many at a time when a server is starting, and would push longer ones out.
    const SHORTEST: Duration = Duration::from_secs(1);

    /// The store has answered.
    pub fn heard(&mut self, now: Timestamp) {
        if let Some(since) = self.since.take().filter(|since| now >= since.after(Self::SHORTEST)) {
            if self.over.len() == Self::MOST {
                self.over.pop_front();
            }
            self.over.push_back((since, now));
        }
        self.heard_at = Some(now);
    }

    /// What was asked at that moment was not answered.
    pub fn failed(&mut self, asked_at: Timestamp) {
        let since = self.heard_at.map_or(asked_at, |heard_at| asked_at.max(heard_at));
        self.since.get_or_insert(since);
    }

    /// How much of the time from one moment to another they took.
    #[must_use]
    pub fn between(&self, from: Timestamp, to: Timestamp) -> Duration {
        let open = self.since.map(|since| (since, Timestamp::MAX));
        let overlap = |(begin, end): (Timestamp, Timestamp)| {
            let (begin, end) = (begin.max(from), end.min(to));
            if begin < end { begin.distance(end) } else { Duration::ZERO }
        };
        self.over.iter().copied().chain(open).map(overlap).sum()
    }
}
