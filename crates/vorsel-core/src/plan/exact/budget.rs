//! How much work the questions about a plan may take.

use std::cell::Cell;

/// How much work the questions about a plan may take, in steps of the search; ten million of them take about a second. A
/// question that takes more is answered "not settled".
///
/// The memory that a question takes is bounded by its steps too: some hundred bytes each, given back when it is answered.
///
/// ```
/// use vorsel_core::{AccessPlan, Budget};
///
/// let plan = AccessPlan::builder().budget(Budget::steps(10_000)).open("GET", "/health").build()?;
/// assert!(plan.table().is_settled());
/// # Ok::<(), vorsel_core::PlanError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Budget {
    question: u64,
    call: u64,
}

impl Budget {
    /// So many steps for each question, and five times as many for all that one call asks: a load, a table, a comparison.
    #[must_use]
    pub const fn steps(question: u64) -> Self {
        Self { question, call: question.saturating_mul(5) }
    }

    pub(in crate::plan) const fn begin(self) -> Purse {
        Purse { question: self.question, left: Cell::new(self.call) }
    }
}

impl Default for Budget {
    /// 12,000,000 steps for a question, 60,000,000 for a call.
    fn default() -> Self {
        Self::steps(12_000_000)
    }
}

/// What is left of a budget.
#[derive(Debug)]
pub(in crate::plan) struct Purse {
    question: u64,
    left: Cell<u64>,
}

/// The budget is used up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::plan) struct Exhausted;

impl Purse {
    pub(super) fn question(&self) -> Steps<'_> {
        Steps { left: Cell::new(self.question.min(self.left.get())), purse: self }
    }
}

/// The steps of one question.
pub(super) struct Steps<'p> {
    left: Cell<u64>,
    purse: &'p Purse,
}

impl Steps<'_> {
    pub(super) fn take(&self, count: usize) -> Result<(), Exhausted> {
        let count = count as u64;
        self.purse.left.set(self.purse.left.get().saturating_sub(count));
        self.left.set(self.left.get().checked_sub(count).ok_or(Exhausted)?);
        Ok(())
    }
}
