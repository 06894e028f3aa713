//! The life of one signed-in device, as a pure state machine.
//!
//! A [`Session`] is what a store keeps. [`Session::present`] takes a refresh token's identity and `now` and says what is
//! to happen; the store carries it out with one compare-and-swap on the generation, so that of two instances that
//! advance at once one loses, reads again, and finds its token spent a moment ago.
//!
//! A refresh token is never stored. Everything in it follows from the session: its times are the session's, and its
//! `jti` is an HMAC of the generation under the session's own secret. So a successor can be made again, byte for byte, for
//! as long as the retry window is open; and neither a copy of the store (which lacks the signing key) nor a
//! stolen signing key (which lacks the secrets) is enough to make one.

use std::fmt;
use std::num::NonZeroU32;
use std::time::Duration;

use aws_lc_rs::{constant_time, hmac};
use serde::{Deserialize, Serialize};

use crate::encoding::base64url;
use crate::finding::Finding;
use crate::key::{KeyError, Secret};
use crate::keyring::Keyring;
use crate::time::{Lifetime, Timestamp};
use crate::token::Checked;
use crate::token::Kind;
use crate::token::{IssueError, Issuer, Prepared, Written};
use crate::verify::Expectations;
use crate::verify::Verifier;

/// One signed-in device: what a store keeps of it. Nothing in it can be used as a token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Session {
    /// The session ID, `sid`.
    pub id: String,
    /// Who signed in, `sub`.
    pub subject: String,
    /// The client that signed in, `client_id`.
    pub client_id: String,
    /// What the user calls the device, if anything.
    pub device: Option<String>,
    /// How the caller authenticated, `acr`, if the app said so at sign-in.
    pub acr: Option<String>,
    /// How many times the session has been renewed.
    pub generation: u64,
    /// When the caller signed in.
    pub started_at: Timestamp,
    /// When the current generation began.
    pub renewed_at: Timestamp,
    /// When the session ends unless it is renewed before.
    pub idle_until: Timestamp,
    /// When the session ends however often it is renewed.
    pub ends_at: Timestamp,
    /// What the IDs of the session's refresh tokens are derived from.
    pub secret: Secret,
    /// The generations before the current one, the last one first; at most [`MOST_SPENT`](Self::MOST_SPENT) of them.
    pub spent: Vec<Spent>,
    /// When and why the session ended, if it did.
    pub ended: Option<Ended>,
}

/// The times of a generation that has a successor.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Spent {
    /// When it began.
    pub began_at: Timestamp,
    /// When the session would have ended in it.
    pub idle_until: Timestamp,
}

/// One generation of a session: its refresh token follows from this and the session's secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Generation {
    number: u64,
    times: Spent,
}

impl Generation {
    /// How many renewals led to it.
    #[must_use]
    pub const fn number(&self) -> u64 {
        self.number
    }

    /// When it began.
    #[must_use]
    pub const fn began_at(&self) -> Timestamp {
        self.times.began_at
    }
}

/// When and why a session ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ended {
    /// When.
    pub at: Timestamp,
    /// Why.
    pub why: EndReason,
}

/// Why a session ended.
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

/// How long sessions last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SessionLimits {
    /// How long a session lasts without being renewed.
    pub idle: Lifetime,
    /// How long a session lasts however often it is renewed.
    pub absolute: Lifetime,
    /// For how long after it was spent a refresh token may come again and gets the same successor. Zero is strict: then a
    /// lost reply signs the user out.
    pub retry_window: Duration,
    /// How many sessions a subject may have at once; any number if nothing is set.
    pub per_subject: Option<PerSubject>,
}

/// A limit on the sessions of one subject.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PerSubject {
    /// How many sessions there may be.
    pub most: NonZeroU32,
    /// What a sign-in beyond that leads to.
    pub beyond: Beyond,
}

/// What a sign-in beyond the limit leads to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Beyond {
    /// It is refused.
    Refuse,
    /// The session that began first ends.
    EndOldest,
}

impl Default for SessionLimits {
    /// 14 days idle, 90 days in all, 10 seconds to retry, any number of sessions.
    fn default() -> Self {
        let retry_window = Duration::from_secs(10);
        Self { idle: Lifetime::days(14), absolute: Lifetime::days(90), retry_window, per_subject: None }
    }
}

/// What a refresh token says of itself, after its signature and times were checked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Presented {
    /// The session it belongs to.
    pub session_id: String,
    /// Whose session it is.
    pub subject: String,
    /// The client it was given to.
    pub client_id: String,
    /// The generation it belongs to.
    pub generation: u64,
    token_id: String,
}

/// What is to happen after a refresh token was presented.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Step {
    /// The token is current. Store this record, if the generation is still the one before it; then answer with its
    /// refresh token.
    Advance(Box<Session>),
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

/// Bytes of a session secret.
pub const SESSION_SECRET_BYTES: usize = 32;

impl Session {
    /// How many spent generations a session remembers.
    pub const MOST_SPENT: usize = 32;

    /// A session that begins now, in generation 0. `id` and `secret` come from randomness of the caller's:
    /// at least 16 bytes for the one, [`SESSION_SECRET_BYTES`] for the other.
    #[must_use]
    pub fn begin(
        id: impl Into<String>,
        secret: Secret,
        subject: impl Into<String>,
        client_id: impl Into<String>,
        limits: &SessionLimits,
        now: Timestamp,
    ) -> Self {
        let ends_at = now.after(limits.absolute.as_duration());
        Self {
            id: id.into(),
            subject: subject.into(),
            client_id: client_id.into(),
            device: None,
            acr: None,
            generation: 0,
            started_at: now,
            renewed_at: now,
            idle_until: now.after(limits.idle.as_duration()).min(ends_at),
            ends_at,
            secret,
            spent: Vec::new(),
            ended: None,
        }
    }

    /// What is to happen when `token` is presented at `now`.
    pub fn present(&self, token: &Presented, limits: &SessionLimits, now: Timestamp) -> Step {
        if !self.made(token) {
            return Step::Foreign;
        }
        if let Some(ended) = self.ended {
            return Step::Ended(ended.why);
        }
        if now >= self.idle_until {
            return Step::Expired;
        }
        match self.generation.checked_sub(token.generation) {
            Some(0) => Step::Advance(Box::new(self.renewed(limits, now))),
            Some(behind) => self.spent_before(token.generation, behind - 1, limits.retry_window, now),
            None => Step::Foreign,
        }
    }

    /// What a spent token leads to, `between` generations lying between its successor and the current one.
    fn spent_before(&self, generation: u64, between: u64, window: Duration, now: Timestamp) -> Step {
        let known = usize::try_from(between).ok().filter(|between| *between <= self.spent.len());
        let Some(between) = known else {
            // It was spent before the earliest generation that is known began.
            let earliest = self.spent.last().map_or(self.renewed_at, |spent| spent.began_at);
            return if now < earliest.after(window) { Step::Outrun } else { Step::Replay };
        };
        let successor = match between.checked_sub(1) {
            None => self.current(),
            Some(index) => Generation { number: generation + 1, times: self.spent[index] },
        };
        if now < successor.began_at().after(window) { Step::Repeat(successor) } else { Step::Replay }
    }

    /// The current generation.
    #[must_use]
    pub const fn current(&self) -> Generation {
        let times = Spent { began_at: self.renewed_at, idle_until: self.idle_until };
        Generation { number: self.generation, times }
    }

    /// Whether this session made the token, in this generation or an earlier one.
    #[must_use]
    pub fn made(&self, token: &Presented) -> bool {
        let derived = self.token_id(token.generation);
        let same_id = constant_time::verify_slices_are_equal(derived.as_bytes(), token.token_id.as_bytes()).is_ok();
        same_id && token.session_id == self.id && token.subject == self.subject && token.generation <= self.generation
    }

    fn renewed(&self, limits: &SessionLimits, now: Timestamp) -> Self {
        let spent = self.spent.iter().copied().take(Self::MOST_SPENT - 1);
        // Another instance's clock may be ahead of this one's.
        let now = now.max(self.renewed_at);
        Self {
            generation: self.generation + 1,
            renewed_at: now,
            idle_until: now.after(limits.idle.as_duration()).min(self.ends_at),
            spent: [self.current().times].into_iter().chain(spent).collect(),
            ..self.clone()
        }
    }

    /// Whether the session can still be renewed at `now`.
    #[must_use]
    pub fn is_live(&self, now: Timestamp) -> bool {
        self.ended.is_none() && now < self.idle_until
    }

    /// The `jti` of the refresh token of one generation.
    fn token_id(&self, generation: u64) -> String {
        let key = hmac::Key::new(hmac::HMAC_SHA256, self.secret.reveal());
        let mut context = hmac::Context::with_key(&key);
        context.update(b"vorsel refresh token of generation ");
        context.update(&generation.to_be_bytes());
        base64url::encode(&context.sign().as_ref()[..16])
    }
}

/// Signs and checks refresh tokens. Only the issuer ever checks one, so the key is a secret of its own: an HMAC, whose
/// signatures are deterministic.
#[derive(Debug)]
pub struct RefreshTokens {
    issuer: Issuer,
    verifier: Verifier,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct Numbered {
    generation: u64,
}

impl RefreshTokens {
    /// Refresh tokens in the name of `issuer`, signed with the keys of a keyring, or always with one key.
    ///
    /// # Errors
    /// If the keys are not HMAC secrets: with another kind of key the same token could not be made twice, or its
    /// holder would be more than the issuer.
    pub fn new(issuer: impl Into<String>, keys: impl Into<Keyring>) -> Result<Self, KeyError> {
        let (name, keyring) = (issuer.into(), keys.into());
        if let Some(key) = keyring.keys().iter().find(|key| !key.algorithm().is_symmetric()) {
            return Err(KeyError::Unsupported {
                expected: "a key for HS256 to sign refresh tokens with",
                found: key.algorithm().to_string(),
            });
        }
        let verifier = Verifier::new(keyring.key_set(), Expectations::refresh(&name));
        Ok(Self { issuer: Issuer::new(name, keyring), verifier })
    }

    /// The refresh token of a generation of the session. The same record always gives the same token: it is signed with
    /// the key of the moment at which the generation began.
    ///
    /// # Errors
    /// Those of [`prepare`](Self::prepare) and [`Prepared::sign`].
    pub fn token(&self, session: &Session, generation: Generation) -> Result<String, IssueError> {
        self.prepare(session, generation)?.sign()
    }

    /// The refresh token of a generation but for its signature.
    ///
    /// # Errors
    /// If the key of that moment is gone.
    pub fn prepare(&self, session: &Session, generation: Generation) -> Result<Prepared, IssueError> {
        let issuer = self.issuer.name();
        let Generation { number, times } = generation;
        let claims = Written {
            iss: issuer,
            aud: issuer,
            iat: times.began_at.as_secs(),
            exp: times.idle_until.as_secs(),
            sub: &session.subject,
            client_id: &session.client_id,
            jti: &session.token_id(number),
            scope: "",
            roles: &[],
            sid: Some(&session.id),
            auth_time: None,
            acr: None,
            own: Numbered { generation: number },
        };
        self.issuer.write(Kind::Refresh, &claims, times.began_at)
    }

    /// Checks a refresh token's form, signature and times.
    ///
    /// # Errors
    /// The first finding that does not hold.
    pub fn check(&self, token: &str, now: Timestamp) -> Result<Presented, Box<Finding>> {
        let checked: Checked<Numbered> = self.verifier.check_as(token, now)?;
        let claims = checked.claims();
        let text = |claim: Option<&str>| claim.unwrap_or_default().to_owned();
        Ok(Presented {
            session_id: text(claims.session_id()),
            subject: text(claims.subject()),
            client_id: text(claims.client_id()),
            generation: checked.own().generation,
            token_id: text(claims.id()),
        })
    }
}
