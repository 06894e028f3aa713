//! How the checks report: the fast path keeps the first failure and stops, the desk keeps every finding. Both run
//! the same checks in the same order, so they cannot disagree.

use std::ops::ControlFlow;

use crate::finding::{Check, Detail, Finding};

/// Where the checks report to. `Break` ends the checking.
pub(crate) trait Audit {
    fn note(&mut self, check: Check, held: bool, detail: impl FnOnce() -> Detail) -> ControlFlow<()>;
}

/// Keeps the first failure and stops there; a check that holds costs a branch.
#[derive(Default)]
pub(crate) struct FirstFailure(pub(crate) Option<Box<Finding>>);

impl Audit for FirstFailure {
    #[inline]
    fn note(&mut self, check: Check, held: bool, detail: impl FnOnce() -> Detail) -> ControlFlow<()> {
        if held { ControlFlow::Continue(()) } else { self.fail(check, detail) }
    }
}

impl FirstFailure {
    #[cold]
    fn fail(&mut self, check: Check, detail: impl FnOnce() -> Detail) -> ControlFlow<()> {
        self.0 = Some(Box::new(finding(check, false, detail())));
        ControlFlow::Break(())
    }
}

/// Keeps every finding and goes on as far as the token can be read.
#[derive(Default)]
pub(crate) struct EveryFinding(pub(crate) Vec<Finding>);

impl Audit for EveryFinding {
    fn note(&mut self, check: Check, held: bool, detail: impl FnOnce() -> Detail) -> ControlFlow<()> {
        self.0.push(finding(check, held, detail()));
        ControlFlow::Continue(())
    }
}

fn finding(check: Check, held: bool, detail: Detail) -> Finding {
    Finding { check, held, expected: detail.expected, found: detail.found }
}
