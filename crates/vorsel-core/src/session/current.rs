//! A refresh token as its maker knows it.

use std::sync::Arc;

use super::presented::Presented;
use super::state::{Generation, Session, TokenIdRoom};

/// A session and the refresh token of its current generation. Whoever made and signed that token and sees the very same again
/// knows by this what [`RefreshTokens::check`](super::RefreshTokens::check) would find in it, for as long as the keys are the
/// same and the session lives, and that it is this session's.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// let current = vorsel_core::CurrentToken::of(session);
/// let token = tokens.prepare_current(&current)?.sign()?;
/// assert_eq!(**current.presented(), tokens.check(&token, now)?);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CurrentToken {
    /// In a box, as a swap has it.
    pub(super) session: Box<Session>,
    pub(super) presented: Arc<Presented>,
}

impl CurrentToken {
    /// The token of this session.
    #[must_use]
    pub fn of(session: Session) -> Self {
        let Generation { number, began_at, idle_until } = session.current;
        let mut room = TokenIdRoom::default();
        let presented = Presented {
            session_id: session.id.clone(),
            subject: session.facts.subject.clone(),
            client_id: session.facts.client_id.clone(),
            generation: number,
            token_id: session.token_id(number, &mut room).to_owned(),
            began_at: began_at.whole_secs(),
            idle_until: idle_until.whole_secs(),
        };
        Self { session: Box::new(session), presented: Arc::new(presented) }
    }

    /// The session.
    #[must_use]
    pub fn session(&self) -> &Session {
        &self.session
    }

    /// What its token says of itself.
    #[must_use]
    pub const fn presented(&self) -> &Arc<Presented> {
        &self.presented
    }
}
