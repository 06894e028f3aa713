//! Refresh tokens: made from a session's record, never stored.
//!
//! Everything in one follows from the session: its times are the session's, and its `jti` is an HMAC of the generation under
//! the session's own secret. So a successor can be made again, byte for byte, for as long as the retry window is open; and
//! neither a copy of the store (which lacks the signing key) nor a stolen signing key (which lacks the secrets) is enough to
//! make one.

use serde::{Deserialize, Serialize};

use super::current::CurrentToken;
use super::presented::Presented;
use super::state::{Generation, Session, TokenIdRoom};
use crate::finding::Finding;
use crate::key::KeyError;
use crate::keyring::Keyring;
use crate::time::Timestamp;
use crate::token::{Audience, Checked, ClaimsToWrite, IssueError, Issuer, Kind, Prepared};
use crate::verify::{Expectations, Verifier};

/// Signs and checks refresh tokens. Only the issuer ever checks one, so the key is a secret of its own: an HMAC, whose
/// signatures are deterministic.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// let token = tokens.token(&session, session.current)?;
/// assert_eq!(tokens.token(&session, session.current)?, token, "the same record always gives the same token");
/// assert_eq!(tokens.check(&token, now)?.subject, "obs-0017");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct RefreshTokens {
    issuer: Issuer,
    verifier: Verifier,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct GenerationClaim {
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
        // Another instance's clock may be ahead. When a generation began is in the record, so this refuses nobody.
        let expectations = Expectations { issuer_ahead: Expectations::LARGEST_SKEW, ..Expectations::refresh(&name) };
        let verifier = Verifier::new(keyring.key_set(), expectations);
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
    /// If the key of that moment is gone, or the token would have more than 16 KiB.
    pub fn prepare(&self, session: &Session, generation: Generation) -> Result<Prepared, IssueError> {
        let mut room = TokenIdRoom::default();
        self.with_id(session, generation, session.token_id(generation.number, &mut room))
    }

    /// [`prepare`](Self::prepare) for the current generation.
    ///
    /// # Errors
    /// Those of [`prepare`](Self::prepare).
    pub fn prepare_current(&self, current: &CurrentToken) -> Result<Prepared, IssueError> {
        self.with_id(&current.session, current.session.current, &current.presented.token_id)
    }

    fn with_id(&self, session: &Session, generation: Generation, id: &str) -> Result<Prepared, IssueError> {
        let issuer = self.issuer.name();
        let Generation { number, began_at, idle_until } = generation;
        let facts = &session.facts;
        let own = GenerationClaim { generation: number };
        let claims = ClaimsToWrite {
            exp: Some(idle_until.as_secs()),
            sub: Some(&facts.subject),
            client_id: Some(&facts.client_id),
            sid: Some(&session.id),
            ..ClaimsToWrite::of(issuer, Audience::One(issuer), id, began_at, own)
        };
        self.issuer.write(Kind::Refresh, &claims, began_at)
    }

    /// Checks a refresh token's form, signature and times.
    ///
    /// # Errors
    /// The first finding that does not hold.
    pub fn check(&self, token: &str, now: Timestamp) -> Result<Presented, Box<Finding>> {
        let checked: Checked<GenerationClaim> = self.verifier.check_as(token, now)?;
        let claims = checked.claims();
        let text = |claim: Option<&str>| claim.unwrap_or_default().to_owned();
        Ok(Presented {
            session_id: text(claims.session_id()),
            subject: text(claims.subject()),
            client_id: text(claims.client_id()),
            generation: checked.own().generation,
            token_id: text(claims.id()),
            began_at: claims.issued_at().unwrap_or(now),
            idle_until: claims.expires_at().unwrap_or(now),
        })
    }
}
