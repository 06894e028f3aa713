//! Answers that are remembered for a while, in a bounded number of places.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use aws_lc_rs::digest::{SHA256, digest};
use vorsel_core::{Checked, Finding, Timestamp};

/// A token by its hash: what is remembered is no token.
pub(super) type Name = [u8; 32];

pub(super) fn name_of(token: &[u8]) -> Name {
    let mut name = [0; 32];
    name.copy_from_slice(digest(&SHA256, token).as_ref());
    name
}

/// What an issuer has answered.
pub(super) enum Answer<C> {
    Active(Arc<Checked<C>>),
    /// Whatever does not stand.
    Inactive(Box<Finding>),
}

impl<C> Clone for Answer<C> {
    fn clone(&self) -> Self {
        match self {
            Self::Active(checked) => Self::Active(checked.clone()),
            Self::Inactive(finding) => Self::Inactive(finding.clone()),
        }
    }
}

struct Remembered<C> {
    answer: Answer<C>,
    fresh_until: Timestamp,
    /// How long it may be used if the issuer can't be asked.
    usable_until: Timestamp,
}

const SHELVES: usize = 16;

pub(super) struct Answers<C> {
    shelves: Vec<Mutex<Shelf<C>>>,
    room: usize,
}

struct Shelf<C> {
    answers: HashMap<Name, Remembered<C>>,
    /// In the order in which they came.
    order: VecDeque<Name>,
}

impl<C> Answers<C> {
    pub(super) fn with_room(tokens: usize) -> Self {
        let shelf = || Mutex::new(Shelf { answers: HashMap::new(), order: VecDeque::new() });
        Self { shelves: (0..SHELVES).map(|_| shelf()).collect(), room: tokens.div_ceil(SHELVES) }
    }

    fn shelf(&self, name: &Name) -> MutexGuard<'_, Shelf<C>> {
        let at = usize::from(name[0]) % SHELVES;
        self.shelves[at].lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// An answer that is fresh.
    pub(super) fn fresh(&self, name: &Name, now: Timestamp) -> Option<Answer<C>> {
        let shelf = self.shelf(name);
        let known = shelf.answers.get(name).filter(|known| now < known.fresh_until)?;
        Some(known.answer.clone())
    }

    /// One that will do while the issuer can't be asked.
    pub(super) fn usable(&self, name: &Name, now: Timestamp) -> Option<Answer<C>> {
        let shelf = self.shelf(name);
        let known = shelf.answers.get(name).filter(|known| now < known.usable_until)?;
        Some(known.answer.clone())
    }

    pub(super) fn forget(&self, name: &Name) {
        self.shelf(name).answers.remove(name);
    }

    pub(super) fn remember(&self, name: Name, answer: Answer<C>, fresh_until: Timestamp, usable_until: Timestamp) {
        if self.room == 0 {
            return;
        }
        let mut shelf = self.shelf(&name);
        let is_new = shelf.answers.insert(name, Remembered { answer, fresh_until, usable_until }).is_none();
        if is_new {
            shelf.order.push_back(name);
        }
        // The oldest makes way.
        while shelf.order.len() > self.room {
            if let Some(oldest) = shelf.order.pop_front() {
                shelf.answers.remove(&oldest);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use vorsel_core::{Expectations, IntrospectedError, KeySet, NoOwn, Verifier};

    use super::*;

    fn inactive() -> Answer<NoOwn> {
        let verifier = Verifier::new(KeySet::default(), Expectations::access("a", "b"));
        match verifier.check_introspected::<NoOwn>(r#"{"active":false}"#, Timestamp::from_secs(0)) {
            Err(IntrospectedError::Token(finding)) => Answer::Inactive(finding),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn answers_are_fresh_for_a_while_and_their_number_is_bounded() {
        let answers = Answers::with_room(64);
        let at = Timestamp::from_secs;
        answers.remember(name_of(b"a"), inactive(), at(10), at(20));
        assert!(answers.fresh(&name_of(b"a"), at(9)).is_some() && answers.fresh(&name_of(b"a"), at(10)).is_none());
        assert!(answers.usable(&name_of(b"a"), at(19)).is_some() && answers.usable(&name_of(b"a"), at(20)).is_none());
        answers.forget(&name_of(b"a"));
        assert!(answers.usable(&name_of(b"a"), at(0)).is_none() && answers.fresh(&name_of(b"b"), at(0)).is_none());
        for count in 0..10_000_u32 {
            answers.remember(name_of(&count.to_be_bytes()), inactive(), at(10), at(20));
        }
        let held: usize = answers.shelves.iter().map(|shelf| shelf.lock().expect("no panic").answers.len()).sum();
        assert!((1..=64).contains(&held), "{held}");
        let none = Answers::with_room(0);
        none.remember(name_of(b"a"), inactive(), at(10), at(20));
        assert!(none.fresh(&name_of(b"a"), at(0)).is_none());
    }
}
