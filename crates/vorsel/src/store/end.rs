//! What an end comes to, and who makes way for a new session: said here once, carried out by each store.

use std::time::Duration;

use vorsel_core::{Beyond, EndReason, Ended, PerSubject, Revocation, Revoked, Session, Timestamp};

/// Sessions that end, and what is put on the feed for them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct End<'a> {
    /// Which sessions.
    pub which: Which<'a>,
    /// When and why.
    pub ended: Ended,
    /// Until when their tokens have to be remembered.
    pub until: Timestamp,
}

/// Which sessions to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Which<'a> {
    /// The session of this id.
    One(&'a str),
    /// Every session of this subject.
    OfSubject(&'a str),
    /// Every session that started before this moment.
    StartedBefore(Timestamp),
}

impl Which<'_> {
    /// Whether this session is meant.
    #[must_use]
    pub fn names(self, session: &Session) -> bool {
        match self {
            Self::One(id) => session.id == id,
            Self::OfSubject(subject) => session.facts.subject == subject,
            Self::StartedBefore(moment) => session.facts.started_at < moment,
        }
    }

    /// The sessions that started before this second have one entry on the feed together; the others have one each.
    ///
    /// Tokens give the time of their sign-in in whole seconds. A session that began within the second that the moment lies in
    /// is named itself, since another may have begun in it after the moment.
    const fn named_from(self) -> Timestamp {
        match self {
            Self::One(_) | Self::OfSubject(_) => Timestamp::MIN,
            Self::StartedBefore(moment) => moment.whole_secs(),
        }
    }
}

impl End<'_> {
    /// The entry for all sessions that are not named themselves. It is put on the feed whether or not one ends here: one that
    /// another instance is beginning is meant as well.
    #[must_use]
    pub fn entry_for_all(&self) -> Option<Revocation> {
        let Which::StartedBefore(_) = self.which else { return None };
        let up_to = self.which.named_from().before(Duration::from_micros(1));
        Some(Revocation { what: Revoked::SignIns { up_to }, until: self.until })
    }

    /// The entry for one session that ends by this, if it has one of its own.
    #[must_use]
    pub fn entry_for(&self, id: &str, started_at: Timestamp) -> Option<Revocation> {
        let is_named = started_at >= self.which.named_from();
        is_named.then(|| Revocation { what: Revoked::Session(id.to_owned()), until: self.until })
    }

    /// From which start on a session has an entry of its own, for stores that tell on their server.
    #[must_use]
    pub const fn named_from(&self) -> Timestamp {
        self.which.named_from()
    }
}

/// How many sessions a subject may have, and when that is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cap {
    /// The limit.
    pub limit: PerSubject,
    /// The moment: sessions that have ended or expired by then do not count.
    pub now: Timestamp,
    /// Until when the tokens of a session that makes way have to be remembered.
    pub until: Timestamp,
}

impl Cap {
    /// How many live sessions may stay beside the new one.
    #[must_use]
    pub const fn may_stay(&self) -> usize {
        (self.limit.most.get() - 1) as usize
    }

    /// Whether the new session is refused rather than others ended.
    #[must_use]
    pub const fn refuses(&self) -> bool {
        !matches!(self.limit.beyond, Beyond::EndOldest)
    }

    /// Which of the live sessions, given the oldest first, make way for one more; nothing if it is refused.
    #[must_use]
    pub fn making_way<'s, T>(&self, live: &'s [T]) -> Option<&'s [T]> {
        let excess = live.len().saturating_sub(self.may_stay());
        if excess > 0 && self.refuses() { None } else { Some(&live[..excess]) }
    }

    /// The end of a session that makes way.
    #[must_use]
    pub const fn end<'a>(&self, id: &'a str) -> End<'a> {
        let ended = Ended { at: self.now, why: EndReason::Displaced };
        End { which: Which::One(id), ended, until: self.until }
    }
}

/// What became of a new session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Inserted {
    /// It is kept, and so many others made way.
    Kept {
        /// How many.
        displaced: u64,
    },
    /// The subject has as many sessions as it may. Nothing changed.
    Full,
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::num::NonZeroU32;

    #[test]
    fn the_oldest_make_way_or_the_new_one_is_refused() {
        let cap = |most, beyond| {
            let limit = PerSubject { most: NonZeroU32::new(most).expect("one at least"), beyond };
            Cap { limit, now: Timestamp::MIN, until: Timestamp::MAX }
        };
        for (most, live, refused, displaced) in
            [(1, 0, Some(0), 0), (1, 1, None, 1), (2, 1, Some(0), 0), (2, 2, None, 1), (2, 5, None, 4)]
        {
            let live: Vec<u32> = (0..live).collect();
            let count = |beyond| cap(most, beyond).making_way(&live).map(<[u32]>::len);
            assert_eq!(
                (count(Beyond::Refuse), count(Beyond::EndOldest)),
                (refused, Some(displaced)),
                "{most} {live:?}"
            );
            assert!(cap(most, Beyond::EndOldest).making_way(&live).is_some_and(|first| live.starts_with(first)));
        }
    }

    #[test]
    fn what_is_not_told_together_is_told_by_name() {
        let moment = Timestamp::from_micros(1_500_000_000_500_000);
        let ended = Ended { at: moment, why: EndReason::Withdrawn };
        let end = End { which: Which::StartedBefore(moment), ended, until: Timestamp::MAX };
        let together = end.entry_for_all().map(|entry| entry.what);
        assert_eq!(together, Some(Revoked::SignIns { up_to: Timestamp::from_micros(1_499_999_999_999_999) }));
        let second = moment.whole_secs();
        assert!(end.entry_for("s1", second).is_some());
        assert!(end.entry_for("s1", second.before(Duration::from_micros(1))).is_none());
        let one = End { which: Which::One("s1"), ..end };
        assert!(one.entry_for_all().is_none() && one.entry_for("s1", Timestamp::MIN).is_some());
    }
}
