//! Which rules a token's claims are known to fulfil, so that they are looked at once and not at every request.

use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};

/// A rule of one plan whose outcome hangs on the claims alone. The plan's number in the upper half, one bit for the rule in
/// the lower.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Mark(u64);

/// The bits of a mark that are for rules.
const RULES: u64 = u32::MAX as u64;

/// Numbers the marks of a plan. No two plans of a process get the same number, so that what a token fulfils under one
/// says nothing about another.
#[derive(Debug)]
pub(crate) struct Marks {
    plan: u64,
    next: u32,
}

impl Marks {
    /// For another plan. After 2^32 of them there are no marks any more, and every rule is looked at each time.
    pub(crate) fn new() -> Self {
        static LAST: AtomicU32 = AtomicU32::new(0);
        let next = LAST.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |last| last.checked_add(1));
        Self { plan: u64::from(next.map_or(0, |last| last + 1)), next: 0 }
    }
}

impl Iterator for Marks {
    type Item = Mark;

    /// For the plan's next rule; the first 32 get one.
    fn next(&mut self) -> Option<Mark> {
        let bit = 1_u32.checked_shl(self.next).filter(|_| self.plan != 0)?;
        self.next += 1;
        Some(Mark(self.plan << 32 | u64::from(bit)))
    }
}

/// The rules of one plan, the last that asked, that claims are known to fulfil. One word, so that there is no lock: what is
/// lost to somebody who writes at the same time is found out again.
#[derive(Debug, Default)]
pub(crate) struct Fulfilled(AtomicU64);

impl Fulfilled {
    pub(crate) fn has(&self, mark: Mark) -> bool {
        let known = self.0.load(Ordering::Relaxed);
        known & !RULES == mark.0 & !RULES && known & mark.0 & RULES != 0
    }

    pub(crate) fn add(&self, mark: Mark) {
        let known = self.0.load(Ordering::Relaxed);
        let others = if known & !RULES == mark.0 & !RULES { known } else { 0 };
        self.0.store(others | mark.0, Ordering::Relaxed);
    }
}

impl Clone for Fulfilled {
    /// Nothing is known of a copy.
    fn clone(&self) -> Self {
        Self::default()
    }
}

impl PartialEq for Fulfilled {
    /// What is known makes no difference.
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_fulfilled_under_one_plan_says_nothing_about_another() {
        let (one, other): (Vec<_>, Vec<_>) = (Marks::new().collect(), Marks::new().collect());
        assert_eq!((one.len(), other.len()), (32, 32));
        let fulfilled = Fulfilled::default();
        assert!(!one.iter().chain(&other).any(|mark| fulfilled.has(*mark)), "nothing is known at first");
        fulfilled.add(one[3]);
        fulfilled.add(one[31]);
        let known = |marks: &[Mark]| -> Vec<usize> { (0..32).filter(|at| fulfilled.has(marks[*at])).collect() };
        assert_eq!((known(&one), known(&other)), (vec![3, 31], vec![]));
        fulfilled.add(other[0]);
        assert_eq!((known(&one), known(&other)), (vec![], vec![0]), "the plan that asked last");
        assert!(!fulfilled.clone().has(other[0]), "nothing is known of a copy");
    }
}
