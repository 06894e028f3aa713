//! A refresh token that was presented and accepted.

use crate::time::Timestamp;

/// What a refresh token says of itself, after its signature and times were checked.
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
