//! What a caller's claims alone were let through to before.

use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};

/// Entries of plans whose rules hold for the claims that this stands beside, whatever else a request brings. Claims don't
/// change, so such a rule need not be gone through for every request. Bounded: each entry has one place that it may be in, and
/// whichever was met last is in it.
#[derive(Default)]
pub(crate) struct Passed([AtomicU64; PLACES]);

const PLACES: usize = 8;

/// One entry of one plan, and whether the caller counts as of our own issuer.
#[derive(Clone, Copy)]
pub(crate) struct Pass {
    word: u64,
    place: usize,
}

impl Pass {
    /// Plans are told apart by numbers from 1 on. Nothing for an entry beyond those that have room in a word.
    pub(crate) fn of(plan: u64, entry: usize, own_issuer: bool) -> Option<Self> {
        const ENTRY_BITS: u32 = 20;
        let fits = entry >> ENTRY_BITS == 0 && plan > 0 && plan.leading_zeros() > ENTRY_BITS;
        let word = plan << (ENTRY_BITS + 1) | (entry as u64) << 1 | u64::from(own_issuer);
        fits.then_some(Self { word, place: entry % PLACES })
    }
}

impl Passed {
    pub(crate) fn has(&self, pass: Pass) -> bool {
        self.0[pass.place].load(Ordering::Relaxed) == pass.word
    }

    pub(crate) fn note(&self, pass: Pass) {
        self.0[pass.place].store(pass.word, Ordering::Relaxed);
    }
}

/// With nothing passed yet, which is always true.
impl Clone for Passed {
    fn clone(&self) -> Self {
        Self::default()
    }
}

/// What was passed says nothing about who it is.
impl PartialEq for Passed {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl fmt::Debug for Passed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Passed").finish_non_exhaustive()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pass_is_for_one_entry_of_one_plan_and_one_kind_of_issuer() {
        let all = [(1, 0, true), (1, 0, false), (1, 8, true), (1, 1 << 19, true), (2, 0, true), (1 << 42, 0, true)];
        for noted in all {
            let passed = Passed::default();
            let pass = |(plan, entry, own)| Pass::of(plan, entry, own).expect("room in a word");
            passed.note(pass(noted));
            for asked in all {
                assert_eq!(passed.has(pass(asked)), asked == noted, "{noted:?} {asked:?}");
            }
            assert!(!passed.clone().has(pass(noted)));
        }
    }

    #[test]
    fn what_has_no_room_in_a_word_is_not_noted() {
        for (plan, entry) in [(0, 0), (1, 1 << 20), (1, usize::MAX), (1 << 43, 0), (u64::MAX, 0)] {
            assert!(Pass::of(plan, entry, true).is_none(), "{plan} {entry}");
        }
    }
}
