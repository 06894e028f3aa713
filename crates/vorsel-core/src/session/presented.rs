//! A refresh token that was presented and accepted.

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
}
