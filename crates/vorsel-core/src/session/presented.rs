//! A refresh token that was presented and accepted.

use crate::time::Timestamp;

/// What a refresh token says of itself, after its signature and times were checked.
///
/// ```
/// # use vorsel_core::{Algorithm, RefreshTokens, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Timestamp};
/// # let (now, limits) = (Timestamp::from_secs(1_700_000_000), SessionLimits::default());
/// # let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// # let tokens = RefreshTokens::new("https://id.skarnhill.test", key)?;
/// # let session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new("obs-0017", "desk"), &limits, now);
/// let presented = tokens.check(&tokens.token(&session, session.current)?, now)?;
/// assert_eq!((presented.session_id.as_str(), presented.generation), ("s1", 0));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Presented {
    /// The session it belongs to.
    pub session_id: String,
    /// Whose session it is.
    pub subject: String,
    /// The client it was given to.
    pub client_id: String,
    /// The generation it belongs to.
    pub generation: u64,
    pub(super) token_id: String,
    /// When the generation began, in whole seconds.
    pub(super) began_at: Timestamp,
    /// When the session would have ended in it, in whole seconds.
    pub(super) idle_until: Timestamp,
}
