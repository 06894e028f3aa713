//! The life of one signed-in device, as a pure state machine.
//!
//! A [`Session`] is what a store keeps. [`Session::present`] takes a refresh token's identity and `now` and says what is
//! to happen; the store carries it out with one compare-and-swap on the generation, so that of two instances that
//! advance at once one loses, reads again, and finds its token spent a moment ago.

use std::fmt;
use std::sync::Arc;

use aws_lc_rs::{constant_time, hmac};

use super::facts::{Facts, SignIn};
use super::limits::SessionLimits;
use super::presented::Presented;
use super::silences::Silences;
use crate::encoding::base64url;
use crate::key::Secret;
use crate::time::Timestamp;

/// One signed-in device: what a store keeps of it. Nothing in it can be used as a token.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// use vorsel_core::Step;
///
/// let first = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// assert_eq!(session.present(&first, &limits, now), Step::Advance);
/// let session = session.renewed(&limits, now);
/// assert_eq!(session.present(&first, &limits, now), Step::Repeat(session.current));
/// assert_eq!(session.present(&first, &limits, now.after(limits.retry_window)), Step::Replay);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Session {
    /// The session ID, `sid`.
    pub id: String,
    /// What does not change.
    pub facts: Arc<Facts>,
    /// The current generation: the one whose refresh token is not spent.
    pub current: Generation,
    /// The generations before the current one, the last one first; at most [`MOST_SPENT`](Self::MOST_SPENT) of them.
    pub spent: Vec<Spent>,
    /// When and why the session ended, if it did.
    pub ended: Option<Ended>,
}

/// The times of a generation that has a successor.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// let first = session.current;
/// let session = session.renewed(&limits, now);
/// assert_eq!(session.spent[0].began_at, first.began_at);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Spent {
    /// When it began.
    pub began_at: Timestamp,
    /// When the session would have ended in it.
    pub idle_until: Timestamp,
}

/// One generation of a session: its refresh token follows from this and the session's secret.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// assert_eq!(session.current.number, 0);
/// assert_eq!(session.current.idle_until, now.after(limits.idle.as_duration()));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Generation {
    /// How many renewals led to it.
    pub number: u64,
    /// When it began.
    pub began_at: Timestamp,
    /// When the session ends unless it is renewed before.
    pub idle_until: Timestamp,
}

/// What a renewal changes of a session.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// let session = session.renewed(&limits, now);
/// let advance = session.advance();
/// assert_eq!((advance.current.number, advance.spent.len()), (1, 1));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Advance<'s> {
    /// The new generation.
    pub current: Generation,
    /// The generations before it, the last one first.
    pub spent: &'s [Spent],
    /// When the session started, which does not change.
    pub started_at: Timestamp,
}

/// What a session begins with that nobody can guess, from the caller's own randomness.
///
/// ```
/// use vorsel_core::SessionSeed;
///
/// let seed = SessionSeed::new("0b9e7c51f2", [7; 32]); // both from a source of randomness
/// assert_eq!(seed.id, "0b9e7c51f2");
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SessionSeed {
    /// The session ID.
    pub id: String,
    secret: Secret,
}

impl SessionSeed {
    /// From random bytes: 16 at least, as text, for the ID, and the secret.
    #[must_use]
    pub fn new(id: impl Into<String>, secret: [u8; SESSION_SECRET_BYTES]) -> Self {
        Self { id: id.into(), secret: secret.into() }
    }
}

/// When and why a session ended.
///
/// ```
/// use vorsel_core::{EndReason, Ended, Timestamp};
///
/// let ended = Ended { at: Timestamp::from_secs(1_700_000_000), why: EndReason::SignedOut };
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Ended {
    /// When.
    pub at: Timestamp,
    /// Why.
    pub why: EndReason,
}

/// Why a session ended.
///
/// ```
/// use vorsel_core::EndReason;
///
/// assert_eq!(EndReason::from_code("replay"), Some(EndReason::Replay));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum EndReason {
    /// The user signed out on this device.
    SignedOut,
    /// A spent refresh token came back outside the retry window.
    Replay,
    /// The app no longer admits the subject.
    NotAdmitted,
    /// The app ended it: everywhere, after a password change, after a leak.
    Withdrawn,
    /// A newer session of the subject took its place, since no more are allowed.
    Displaced,
}

impl EndReason {
    /// Every reason.
    pub const ALL: [Self; 5] = [Self::SignedOut, Self::Replay, Self::NotAdmitted, Self::Withdrawn, Self::Displaced];

    /// The reason as stores and scripts write it.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::SignedOut => "signed-out",
            Self::Replay => "replay",
            Self::NotAdmitted => "not-admitted",
            Self::Withdrawn => "withdrawn",
            Self::Displaced => "displaced",
        }
    }

    /// The reason that is written as `code`.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|reason| reason.code() == code)
    }
}

impl fmt::Display for EndReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

/// What is to happen after a refresh token was presented.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// # use vorsel_core::Step;
/// let token = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// let after_the_end = session.facts.ends_at;
/// assert_eq!(session.present(&token, &limits, after_the_end), Step::Expired);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Step {
    /// The token is current. Store what the session is [renewed](Session::renewed) to, if the generation is still the one
    /// before it; then answer with its refresh token.
    Advance,
    /// The token was spent a moment ago. Answer with the refresh token of this generation, its successor, which may be
    /// spent by now as well; store nothing.
    Repeat(Generation),
    /// The token was spent long ago: somebody has a copy. End the session.
    Replay,
    /// So many renewals came after the token's that it is not known any more when it was spent, yet that may have been a
    /// moment ago. Refuse it; nothing else happens. After the retry window it is a replay.
    Outrun,
    /// The session has lasted its time.
    Expired,
    /// The session ended before.
    Ended(EndReason),
    /// The token does not come from this session, though its signature is right: no record ever led to it.
    Foreign,
}

/// Room for the `jti` of a refresh token: 16 bytes in base64url.
pub(super) type TokenIdRoom = [u8; 22];

/// Bytes of a session secret.
pub const SESSION_SECRET_BYTES: usize = 32;

impl Session {
    /// How many spent generations a session remembers.
    pub const MOST_SPENT: usize = 32;

    /// A session that begins now, in generation 0.
    #[must_use]
    pub fn begin(seed: SessionSeed, sign_in: SignIn, limits: &SessionLimits, now: Timestamp) -> Self {
        let facts = Facts::of(sign_in, seed.secret, limits, now);
        let idle_until = now.after(limits.idle.as_duration()).min(facts.ends_at);
        let current = Generation { number: 0, began_at: now, idle_until };
        Self { id: seed.id, facts: Arc::new(facts), current, spent: Vec::new(), ended: None }
    }

    /// What is to happen when `token` is presented at `now`.
    pub fn present(&self, token: &Presented, limits: &SessionLimits, now: Timestamp) -> Step {
        self.present_after(token, limits, now, &Silences::default())
    }

    /// [`present`](Self::present) where the store was silent at times, which do not count in the retry window.
    pub fn present_after(
        &self,
        token: &Presented,
        limits: &SessionLimits,
        now: Timestamp,
        silences: &Silences,
    ) -> Step {
        if !self.made(token) {
            return Step::Foreign;
        }
        if let Some(ended) = self.ended {
            return Step::Ended(ended.why);
        }
        if now >= self.current.idle_until {
            return Step::Expired;
        }
        match self.current.number.checked_sub(token.generation) {
            Some(0) => Step::Advance,
            Some(behind) => {
                let is_in_time = |spent_at: Timestamp| {
                    now < spent_at.after(limits.retry_window).after(silences.between(spent_at, now))
                };
                self.spent_before(token.generation, behind - 1, is_in_time)
            }
            None => Step::Foreign,
        }
    }

    /// What a spent token leads to, `between` generations lying between its successor and the current one.
    fn spent_before(&self, generation: u64, between: u64, is_in_time: impl Fn(Timestamp) -> bool) -> Step {
        let known = usize::try_from(between).ok().filter(|between| *between <= self.spent.len());
        let Some(between) = known else {
            // It was spent before the earliest generation that is known began.
            let earliest = self.spent.last().map_or(self.current.began_at, |spent| spent.began_at);
            return if is_in_time(earliest) { Step::Outrun } else { Step::Replay };
        };
        let successor = match between.checked_sub(1) {
            None => self.current,
            Some(index) => {
                let Spent { began_at, idle_until } = self.spent[index];
                Generation { number: generation + 1, began_at, idle_until }
            }
        };
        if is_in_time(successor.began_at) { Step::Repeat(successor) } else { Step::Replay }
    }

    /// Whether this session made the token, in whatever generation: nobody else has the secret that its ID follows from.
    #[must_use]
    pub fn made(&self, token: &Presented) -> bool {
        let mut room = TokenIdRoom::default();
        let derived = self.token_id(token.generation, &mut room);
        let same_id = constant_time::verify_slices_are_equal(derived.as_bytes(), token.token_id.as_bytes()).is_ok();
        same_id && token.session_id == self.id && token.subject == self.facts.subject
    }

    /// The session in the generation of this token, if that is a later one than the store knows of: a fail-over or a restored
    /// copy has lost the renewals that led to it. What was spent before it counts as spent when it began.
    #[must_use]
    pub fn moved_on(self, token: &Presented) -> Self {
        if token.generation <= self.current.number || !self.made(token) {
            return self;
        }
        let Presented { generation, began_at, idle_until, .. } = *token;
        let current = Generation { number: generation, began_at, idle_until: idle_until.min(self.facts.ends_at) };
        Self { current, spent: Vec::new(), ..self }
    }

    /// The session in its next generation, which begins at `now`: the moment at which it is stored, not the one at which it was
    /// asked for.
    #[must_use]
    pub fn renewed(&self, limits: &SessionLimits, now: Timestamp) -> Self {
        let Generation { number, began_at, idle_until } = self.current;
        let kept = self.spent.len().min(Self::MOST_SPENT - 1);
        let mut spent = Vec::with_capacity(kept + 1);
        spent.push(Spent { began_at, idle_until });
        spent.extend_from_slice(&self.spent[..kept]);
        // Another instance's clock may be ahead of this one's.
        let now = now.max(began_at);
        let idle_until = now.after(limits.idle.as_duration()).min(self.facts.ends_at);
        Self {
            id: self.id.clone(),
            facts: self.facts.clone(),
            current: Generation { number: number + 1, began_at: now, idle_until },
            spent,
            ended: self.ended,
        }
    }

    /// What the renewal that led to this generation has changed.
    #[must_use]
    pub fn advance(&self) -> Advance<'_> {
        Advance { current: self.current, spent: &self.spent, started_at: self.facts.started_at }
    }

    /// Whether the session can still be renewed at `now`.
    #[must_use]
    pub fn is_live(&self, now: Timestamp) -> bool {
        self.ended.is_none() && now < self.current.idle_until
    }

    /// The `jti` of the refresh token of one generation.
    pub(super) fn token_id<'r>(&self, generation: u64, room: &'r mut TokenIdRoom) -> &'r str {
        let key = hmac::Key::new(hmac::HMAC_SHA256, self.facts.secret.reveal());
        let mut context = hmac::Context::with_key(&key);
        context.update(b"vorsel refresh token of generation ");
        context.update(&generation.to_be_bytes());
        base64url::encode_into(&context.sign().as_ref()[..16], room)
    }
}
