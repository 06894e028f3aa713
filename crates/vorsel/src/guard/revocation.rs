//! What a guard knows of revocations, and what it does when it may not know enough.

use std::time::Duration;

use vorsel_core::{Checked, Finding, Refusal, Timestamp};

use super::predicate::PredicateAnswer;
use crate::revocations::LiveRevocations;

/// The name of the predicate that comes with a view of what is revoked.
pub(super) const REVOCATIONS_CURRENT: &str = "revocations-current";

/// What happens to requests with a token when the feed has been silent for too long.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenSilent {
    /// They go on by what was known last.
    GoOn,
    /// They are refused until the feed is heard again (503).
    Refuse,
}

/// What a guard holds tokens against that were accepted.
#[derive(Clone, Debug)]
pub(super) struct RevocationGate {
    pub(super) view: LiveRevocations,
    pub(super) longest_silence: Duration,
    pub(super) when_silent: WhenSilent,
}

impl RevocationGate {
    /// Whether a token that was accepted was not revoked, by its own issuer's names if it is another one's.
    pub(super) fn stands<C>(
        &self,
        other_issuer: Option<&str>,
        token: &Checked<C>,
        now: Timestamp,
    ) -> Result<(), Box<Finding>> {
        match other_issuer {
            None => self.view.check(token, now),
            Some(issuer) => self.view.known().check_of(issuer, token, now),
        }
    }

    /// The same, where what may have been missed counts.
    pub(super) fn admits<C>(
        &self,
        other_issuer: Option<&str>,
        token: &Checked<C>,
        now: Timestamp,
    ) -> Result<(), Refusal> {
        self.stands(other_issuer, token, now).map_err(Refusal::BadToken)?;
        let too_long = if self.when_silent == WhenSilent::Refuse { self.silence() } else { None };
        too_long.map_or(Ok(()), |reason| {
            Err(Refusal::Unanswered { what: "whether the token was revoked".to_owned(), reason })
        })
    }

    /// The answer to the predicate of rules that want to be sure.
    pub(super) fn is_current(&self) -> PredicateAnswer {
        self.silence().map_or(Ok(true), |reason| Err(reason.into()))
    }

    fn silence(&self) -> Option<String> {
        let silent_for = self.view.silent_for();
        (silent_for > self.longest_silence).then(|| {
            let longest = self.longest_silence;
            format!("expected to hear of the feed within {longest:?}, but it has been silent for {silent_for:.1?}")
        })
    }
}
