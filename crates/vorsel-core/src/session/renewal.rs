//! One renewal, from the token that is presented to the answer, as a state machine: it says what to do next and is told what
//! came of it. `Sessions` carries it out on a store; the model checker drives it through every interleaving.

use std::sync::Arc;

use super::current::CurrentToken;
use super::limits::SessionLimits;
use super::presented::Presented;
use super::silences::Silences;
use super::state::{EndReason, Generation, Session, Step};
use crate::time::Timestamp;

/// A renewal under way.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// use vorsel_core::{Renewal, RenewalStep, Silences};
///
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let RenewalStep::Load(load) = Renewal::new(presented, limits, now).begin(None) else { panic!("nothing is remembered") };
/// let found = load.found(Some(session), now, &Silences::default());
/// let RenewalStep::Swap(swap) = found else { panic!("the token is not spent") };
/// let next = swap.next(now);
/// assert_eq!(next.current.number, 1);
/// let answer = tokens.token(&next, next.current)?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Renewal {
    token: Arc<Presented>,
    limits: SessionLimits,
    came_at: Timestamp,
    races_left: u8,
}

/// What a renewal needs next.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// # use vorsel_core::{Renewal, RenewalStep, Silences};
/// let spent = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let session = session.renewed(&limits, now);
/// let long_after = now.after(limits.retry_window * 2);
/// let RenewalStep::Load(load) = Renewal::new(spent, limits, long_after).begin(None) else { panic!() };
/// let step = load.found(Some(session), long_after, &Silences::default());
/// assert!(matches!(step, RenewalStep::End(_, vorsel_core::EndReason::Replay)));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// # use vorsel_core::{Renewal, RenewalRefusal, RenewalStep, Silences};
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let RenewalStep::Load(load) = Renewal::new(presented, limits, now).begin(None) else { panic!() };
/// let step = load.found(None, now, &Silences::default());
/// assert_eq!(step, RenewalStep::Refuse(RenewalRefusal::Unknown));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// # use vorsel_core::{Renewal, RenewalStep};
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let RenewalStep::Load(load) = Renewal::new(presented, limits, now).begin(None) else { panic!() };
/// assert_eq!(load.session_id(), "s1");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Load(Renewal);

/// A session is to be advanced.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// # use vorsel_core::{CurrentToken, Renewal, RenewalStep};
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let remembered = Some(CurrentToken::of(session));
/// let RenewalStep::Swap(swap) = Renewal::new(presented, limits, now).begin(remembered) else { panic!() };
/// assert_eq!((swap.session().current.number, swap.next(now).current.number), (0, 1));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
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
    pub fn new(token: impl Into<Arc<Presented>>, limits: SessionLimits, came_at: Timestamp) -> Self {
        Self { token: token.into(), limits, came_at, races_left: Self::MOST_RACES }
    }

    /// The first step. `remembered` is a session as this instance knows it, which may be out of date: it leads to nothing but a
    /// swap, which the store refuses if it is, and to that only if the token is its current one.
    pub fn begin(self, remembered: Option<CurrentToken>) -> RenewalStep {
        match remembered {
            Some(CurrentToken { session, presented }) if presented == self.token && session.is_live(self.came_at) => {
                RenewalStep::Swap(Swap { renewal: self, session })
            }
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
