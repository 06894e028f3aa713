//! What came of sign-ins and renewals, counted.

use std::sync::atomic::{AtomicU64, Ordering};

use super::error::{RenewError, StartError};
use crate::meters::Codes;

/// What came of sign-ins and renewals on this instance since it was set up.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// let figures = sessions.figures();
/// println!("{} renewed, {} repeated, not renewed: {:?}", figures.renewed, figures.repeated, figures.not_renewed);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SessionFigures {
    /// Sessions begun.
    pub started: u64,
    /// Sign-ins that were refused or failed, by [`StartError::code`]; all codes, in one order.
    pub not_started: Vec<(&'static str, u64)>,
    /// Renewals that made a new generation.
    pub renewed: u64,
    /// Renewals that were answered with the successor that their token has already.
    pub repeated: u64,
    /// Renewals that were refused or failed, by [`RenewError::code`]; all codes, in one order.
    pub not_renewed: Vec<(&'static str, u64)>,
}

pub(super) struct Counters {
    sign_ins: Codes,
    renewals: Codes,
    started: AtomicU64,
    not_started: [AtomicU64; StartError::CODES.len()],
    renewed: AtomicU64,
    repeated: AtomicU64,
    not_renewed: [AtomicU64; RenewError::CODES.len()],
}

impl Counters {
    pub(super) fn new() -> Self {
        let zero = || AtomicU64::new(0);
        Self {
            sign_ins: Codes::new("vorsel_sign_ins_total", "outcome"),
            renewals: Codes::new("vorsel_renewals_total", "outcome"),
            started: zero(),
            not_started: std::array::from_fn(|_| zero()),
            renewed: zero(),
            repeated: zero(),
            not_renewed: std::array::from_fn(|_| zero()),
        }
    }

    pub(super) fn start<T>(&self, answer: &Result<T, StartError>) {
        let (counter, outcome) = match answer {
            Ok(_) => (&self.started, "started"),
            Err(error) => (&self.not_started[error.place()], error.code()),
        };
        self.sign_ins.count(outcome);
        counter.fetch_add(1, Ordering::Relaxed);
    }

    /// A renewal, and whether a new generation was made for it.
    pub(super) fn renewal(&self, answer: Result<bool, &RenewError>) {
        let (counter, outcome) = match answer {
            Ok(true) => (&self.renewed, "renewed"),
            Ok(false) => (&self.repeated, "repeated"),
            Err(error) => (&self.not_renewed[error.place()], error.code()),
        };
        self.renewals.count(outcome);
        counter.fetch_add(1, Ordering::Relaxed);
    }

    pub(super) fn so_far(&self) -> SessionFigures {
        let count = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        let by_code = |codes: &[&'static str], counters: &[AtomicU64]| {
            codes.iter().copied().zip(counters.iter().map(count)).collect()
        };
        SessionFigures {
            started: count(&self.started),
            not_started: by_code(&StartError::CODES, &self.not_started),
            renewed: count(&self.renewed),
            repeated: count(&self.repeated),
            not_renewed: by_code(&RenewError::CODES, &self.not_renewed),
        }
    }
}
