//! What an end comes to, and who makes way for a new session: said here once, carried out by each store.

use std::time::Duration;

use vorsel_core::{Beyond, EndReason, Ended, PerSubject, Revocation, Revoked, Session, Timestamp};

/// Sessions that end, and what is put on the feed for them.
///
/// ```
/// use vorsel::store::{End, Which};
/// use vorsel::{EndReason, Ended, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let ended = Ended { at: now, why: EndReason::Withdrawn };
/// let end = End { which: Which::OfSubject("obs-0017"), ended, until: Timestamp::from_secs(1_700_000_900) };
/// assert!(end.mark().is_none(), "only all sessions of a time are one mark");
/// ```
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
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::store::Which;
///
/// let ended = sessions.end(Which::OfSubject("obs-0017")).await?; // how many, where they are counted
/// # Ok(())
/// # }
/// ```
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

/// Every session that started before a moment is over, however many there are: what is kept instead of an end for each.
///
/// Of several marks the one with the earliest moment that covers a session is its end; one whose moment is no later than
/// another's that was set before says nothing new.
///
/// ```
/// use vorsel::store::Mark;
/// use vorsel::{EndReason, Ended, Timestamp};
///
/// let [before, moment, after] = [0, 10, 20].map(Timestamp::from_secs);
/// let mark = Mark { before: moment, ended: Ended { at: after, why: EndReason::Withdrawn } };
/// assert!(Mark::any_covers(&[mark], before) && !Mark::any_covers(&[mark], moment));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mark {
    /// The moment.
    pub before: Timestamp,
    /// When and why they ended.
    pub ended: Ended,
}

impl Mark {
    /// As many are kept at most; when there would be more, the one with the earliest moment goes, whose sessions then have the
    /// end of the next.
    pub const MOST: usize = 32;

    /// Keeps it among these marks, if it says anything new.
    pub fn put_among(self, marks: &mut Vec<Self>) {
        if marks.iter().all(|mark| mark.before < self.before) {
            marks.push(self);
            let excess = marks.len().saturating_sub(Self::MOST);
            marks.drain(..excess);
        }
    }

    /// Whether one of these marks covers what started at this moment.
    #[must_use]
    pub fn any_covers(marks: &[Self], started_at: Timestamp) -> bool {
        marks.iter().any(|mark| started_at < mark.before)
    }

    /// How a session stands under these marks.
    #[must_use]
    pub fn seen(marks: &[Self], session: Session) -> Session {
        let covering = marks.iter().filter(|mark| session.facts.started_at < mark.before);
        let first = covering.min_by_key(|mark| mark.before).map(|mark| mark.ended);
        Session { ended: session.ended.or(first), ..session }
    }
}

impl End<'_> {
    /// The mark that stands for this end, if it is one of all sessions of a time. Tokens count whole seconds, so what starts
    /// within the second of the moment is meant as well.
    #[must_use]
    pub fn mark(&self) -> Option<Mark> {
        let Which::StartedBefore(moment) = self.which else { return None };
        Some(Mark { before: moment.next_whole_sec(), ended: self.ended })
    }

    /// The entry on the feed for all sessions that are not named themselves. It is put there whether or not the mark says
    /// anything new: it may have to be remembered for longer.
    #[must_use]
    pub fn entry_for_all(&self) -> Option<Revocation> {
        let up_to = self.mark()?.before.before(Duration::from_micros(1));
        Some(Revocation { what: Revoked::SignIns { up_to }, until: self.until })
    }

    /// The entry for one session that ends by this, if it is named.
    #[must_use]
    pub fn entry_for(&self, id: &str) -> Option<Revocation> {
        let is_named = !matches!(self.which, Which::StartedBefore(_));
        is_named.then(|| Revocation { what: Revoked::Session(id.to_owned()), until: self.until })
    }
}

/// How many sessions a subject may have, and when that is asked.
///
/// ```
/// use std::num::NonZeroU32;
/// use vorsel::store::Cap;
/// use vorsel::{Beyond, PerSubject, Timestamp};
///
/// let limit = PerSubject { most: NonZeroU32::new(2).expect("not none"), beyond: Beyond::EndOldest };
/// let cap = Cap { limit, now: Timestamp::from_secs(1_700_000_000), until: Timestamp::from_secs(1_700_000_900) };
/// assert_eq!(cap.making_way(&["oldest", "newest"]), Some(&["oldest"][..]));
/// ```
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
///
/// ```
/// # async fn example(store: &dyn vorsel::store::SessionStore, session: &vorsel::Session) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::store::Inserted;
///
/// match store.insert(session, None).await? {
///     Inserted::Kept { displaced } => println!("{displaced} made way"),
///     Inserted::Full => println!("no more sessions for {}", session.facts.subject),
/// }
/// # Ok(())
/// # }
/// ```
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
    fn the_first_mark_that_covers_a_session_is_its_end() {
        let mark = |before, at| Mark {
            before: Timestamp::from_secs(before),
            ended: Ended { at: Timestamp::from_secs(at), why: EndReason::Withdrawn },
        };
        let marks = [mark(20, 21), mark(10, 11)];
        let begun = |at| {
            let seed = vorsel_core::SessionSeed::new("s1", [7; 32]);
            let sign_in = vorsel_core::SignIn::new("obs-0017", "desk");
            Session::begin(seed, sign_in, &vorsel_core::SessionLimits::default(), Timestamp::from_secs(at))
        };
        for (began, expected) in [(9, Some(11)), (10, Some(21)), (19, Some(21)), (20, None)] {
            let ended = Mark::seen(&marks, begun(began)).ended;
            assert_eq!(ended.map(|ended| ended.at), expected.map(Timestamp::from_secs), "{began}");
        }
        let own = Some(Ended { at: Timestamp::from_secs(3), why: EndReason::SignedOut });
        assert_eq!(Mark::seen(&marks, Session { ended: own, ..begun(9) }).ended, own);
    }

    #[test]
    fn a_moment_means_the_whole_of_its_second() {
        let moment = Timestamp::from_micros(1_500_000_000_500_000);
        let ended = Ended { at: moment, why: EndReason::Withdrawn };
        let end = |moment| End { which: Which::StartedBefore(moment), ended, until: Timestamp::MAX };
        let second = moment.whole_secs();
        for (moment, before) in [(second, second), (moment, Timestamp::from_secs(1_500_000_001))] {
            let up_to = before.before(Duration::from_micros(1));
            assert_eq!(end(moment).mark(), Some(Mark { before, ended }));
            assert_eq!(end(moment).entry_for_all().map(|entry| entry.what), Some(Revoked::SignIns { up_to }));
            assert_eq!(end(moment).entry_for("s1"), None);
        }
        let one = End { which: Which::One("s1"), ..end(moment) };
        assert!(one.mark().is_none() && one.entry_for_all().is_none() && one.entry_for("s1").is_some());
    }
}
