//! What a guard knows of revocations, and what it does when it may not know enough.

use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{Checked, ClockOffset, Finding, Refusal, Timestamp};

use super::predicate::PredicateAnswer;
use crate::revocations::LiveRevocations;

/// The name of the predicate that comes with a view of what is revoked.
pub(super) const REVOCATIONS_CURRENT: &str = "revocations-current";

/// What happens to requests with a token when the feed has been silent for too long.
///
/// ```
/// # async fn example(guard: vorsel::GuardBuilder<vorsel::NoOwn>, view: vorsel::LiveRevocations) -> Result<(), Box<dyn std::error::Error>> {
/// use std::time::Duration;
/// use vorsel::WhenSilent;
///
/// // Nobody gets in where nobody knows any more what is revoked.
/// let guard = guard.revocations(view, Duration::from_secs(10), WhenSilent::Refuse).build()?;
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenSilent {
    /// They go on by what was known last.
    GoOn,
    /// They are refused until the feed is heard again (503).
    Refuse,
}

/// A view that tokens are held against, and what happens when it has heard nothing for too long.
#[derive(Clone, Debug)]
pub(super) struct Gate {
    pub(super) view: LiveRevocations,
    pub(super) longest_silence: Duration,
    pub(super) when_silent: WhenSilent,
}

/// What a guard holds tokens against that were accepted.
#[derive(Clone, Debug, Default)]
pub(super) struct Gates {
    ours: Option<Gate>,
    /// Of other issuers, who tell themselves what they have revoked.
    others: Vec<(Arc<str>, Gate)>,
}

impl Gates {
    pub(super) fn set(&mut self, gate: Gate) {
        self.ours = Some(gate);
    }

    pub(super) fn set_of(&mut self, issuer: &str, gate: Gate) {
        self.others.retain(|(known, _)| &**known != issuer);
        self.others.push((issuer.into(), gate));
    }

    /// The other issuers.
    pub(super) fn issuers(&self) -> impl Iterator<Item = &str> {
        self.others.iter().map(|(issuer, _)| &**issuer)
    }

    fn of(&self, other_issuer: Option<&str>) -> Option<&Gate> {
        let issuer = other_issuer?;
        self.others.iter().find(|(known, _)| &**known == issuer).map(|(_, gate)| gate)
    }

    /// Whether nothing is known of revocations.
    pub(super) const fn are_none(&self) -> bool {
        self.ours.is_none() && self.others.is_empty()
    }

    /// Whether a token that was accepted was not revoked: by us, under its own issuer's names if it is another one's, or by that issuer.
    pub(super) fn stands<C>(
        &self,
        other_issuer: Option<&str>,
        token: &Checked<C>,
        now: Timestamp,
    ) -> Result<(), Box<Finding>> {
        if let Some(ours) = &self.ours {
            match other_issuer {
                None => ours.view.check(token, now)?,
                Some(issuer) => ours.view.known().check_of(issuer, token, now)?,
            }
        }
        self.of(other_issuer).map_or(Ok(()), |gate| gate.view.check(token, now))
    }

    /// The same, where what may have been missed counts.
    pub(super) fn admit<C>(
        &self,
        other_issuer: Option<&str>,
        token: &Checked<C>,
        now: Timestamp,
    ) -> Result<(), Refusal> {
        self.stands(other_issuer, token, now).map_err(Refusal::BadToken)?;
        let gates = self.ours.iter().chain(self.of(other_issuer));
        let mut strict = gates.filter(|gate| gate.when_silent == WhenSilent::Refuse);
        strict.find_map(Gate::silence).map_or(Ok(()), |reason| {
            Err(Refusal::Unanswered { what: "whether the token was revoked".to_owned(), reason })
        })
    }

    /// The answer to the predicate of rules that want to be sure.
    pub(super) fn are_current(&self, other_issuer: Option<&str>) -> PredicateAnswer {
        let silence = self.ours.iter().chain(self.of(other_issuer)).find_map(Gate::silence);
        silence.map_or(Ok(true), |reason| Err(reason.into()))
    }

    /// How far this machine's clock is from our store's.
    pub(super) fn clock_offset(&self) -> ClockOffset {
        self.ours.as_ref().map(|gate| gate.view.clock_offset()).unwrap_or_default()
    }
}

impl Gate {
    fn silence(&self) -> Option<String> {
        let silent_for = self.view.silent_for();
        (silent_for > self.longest_silence).then(|| {
            let longest = self.longest_silence;
            match silent_for {
                Duration::MAX => {
                    format!("expected to hear of the feed within {longest:?}, but nothing was heard of it yet")
                }
                _ => format!(
                    "expected to hear of the feed within {longest:?}, but it has been silent for {silent_for:.1?}"
                ),
            }
        })
    }
}
