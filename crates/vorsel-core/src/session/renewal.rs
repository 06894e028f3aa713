//! One renewal, from the token that is presented to the answer, as a state machine: it says what to do next and is told what
//! came of it. `Sessions` carries it out on a store; the model checker drives it through every interleaving.

use super::limits::SessionLimits;
use super::presented::Presented;
use super::silences::Silences;
use super::state::{EndReason, Generation, Session, Step};
use crate::time::Timestamp;

/// A renewal under way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renewal {
    token: Presented,
    limits: SessionLimits,
    came_at: Timestamp,
    races_left: u8,
}

/// What a renewal needs next.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum RenewalStep {
    /// Load the session of the token.
    Load(Load),
    /// Swap the session's generation for the next one, which begins when that is done.
    Swap(Swap),
    /// Answer with the refresh token of this generation, the token's own successor. Nothing is stored.
    Repeat(Box<Session>, Generation),
    /// A spent token came back too late: end the session for this reason, then refuse.
    End(Box<Session>, EndReason),
    /// Refuse. Nothing else happens.
    Refuse(RenewalRefusal),
}

/// Why a renewal is refused without anything else happening.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum RenewalRefusal {
    /// There is no such session, or the token did not come from it.
    Unknown,
    /// The session has lasted its time.
    Expired,
    /// The session ended before.
    Ended(EndReason),
    /// So many renewals came after the token's that its successor is not known any more.
    Outrun,
    /// Every swap lost a race, yet the session did not change: the store does not keep its contract.
    StoreBroken,
}

/// A session is to be loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Load(Renewal);

/// A session is to be advanced.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Swap {
    renewal: Renewal,
    session: Box<Session>,
}

impl Renewal {
    /// A renewal that loses a race reads again and finds its token spent. Losing this often means that the store does not
    /// keep its contract.
    const MOST_RACES: u8 = 8;

    /// The renewal by this token, which came at that moment.
    #[must_use]
    pub const fn new(token: Presented, limits: SessionLimits, came_at: Timestamp) -> Self {
        Self { token, limits, came_at, races_left: Self::MOST_RACES }
    }

    /// The first step. `remembered` is the session as this instance knows it, which may be out of date: it leads to nothing
    /// but a swap, which the store refuses if it is.
    pub fn begin(self, remembered: Option<Session>) -> RenewalStep {
        let Some(session) = remembered else { return RenewalStep::Load(Load(self)) };
        match session.present(&self.token, &self.limits, self.came_at) {
            Step::Advance => RenewalStep::Swap(Swap { renewal: self, session: Box::new(session) }),
            _ => RenewalStep::Load(Load(self)),
        }
    }
}

impl Load {
    /// The session to load.
    #[must_use]
    pub fn session_id(&self) -> &str {
        &self.0.token.session_id
    }

    /// What the store had; when the token [counts as having come](super::Arrivals::first), now that the store answers; and when
    /// it did not.
    pub fn found(self, session: Option<Session>, came_at: Timestamp, silences: &Silences) -> RenewalStep {
        let renewal = Renewal { came_at, ..self.0 };
        let Some(session) = session else { return RenewalStep::Refuse(RenewalRefusal::Unknown) };
        let session = session.moved_on(&renewal.token);
        match session.present_after(&renewal.token, &renewal.limits, renewal.came_at, silences) {
            Step::Advance => RenewalStep::Swap(Swap { renewal, session: Box::new(session) }),
            Step::Repeat(successor) => RenewalStep::Repeat(Box::new(session), successor),
            Step::Replay => RenewalStep::End(Box::new(session), EndReason::Replay),
            Step::Outrun => RenewalStep::Refuse(RenewalRefusal::Outrun),
            Step::Expired => RenewalStep::Refuse(RenewalRefusal::Expired),
            Step::Ended(why) => RenewalStep::Refuse(RenewalRefusal::Ended(why)),
            Step::Foreign => RenewalStep::Refuse(RenewalRefusal::Unknown),
        }
    }
}

impl Swap {
    /// The session as it is.
    #[must_use]
    pub const fn session(&self) -> &Session {
        &self.session
    }

    /// The session as it is to be, if it is stored at `now`. Once the store has made the swap, the answer is the refresh token
    /// of its current generation.
    #[must_use]
    pub fn next(&self, now: Timestamp) -> Session {
        self.session.renewed(&self.renewal.limits, now)
    }

    /// The session has reached that generation already, or has ended.
    pub fn lost(self) -> RenewalStep {
        let Self { mut renewal, .. } = self;
        match renewal.races_left.checked_sub(1) {
            None => RenewalStep::Refuse(RenewalRefusal::StoreBroken),
            Some(left) => {
                renewal.races_left = left;
                RenewalStep::Load(Load(renewal))
            }
        }
    }
}
