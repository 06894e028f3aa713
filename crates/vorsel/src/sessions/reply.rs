//! The answer to a sign-in or a renewal.

use std::fmt;

use serde::Serialize;
use vorsel_core::{IssueError, Prepared};

/// The answer to a sign-in or a renewal ([RFC 6749 section 5.1](https://www.rfc-editor.org/rfc/rfc6749#section-5.1)).
/// `Debug` does not show the tokens.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>) -> Result<(), Box<dyn std::error::Error>> {
/// let reply = sessions.start(vorsel::SignIn::new("obs-0017", "desk")).await?;
/// let body = serde_json::to_string(&reply)?; // the members of RFC 6749 section 5.1
/// # Ok(())
/// # }
/// ```
#[derive(Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct TokenReply {
    /// The access token.
    pub access_token: String,
    /// `Bearer`.
    pub token_type: &'static str,
    /// The access token's lifetime in seconds.
    pub expires_in: u64,
    /// The refresh token.
    pub refresh_token: String,
    /// The scopes granted, with a space between them.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub scope: String,
}

/// A reply whose tokens are not signed yet.
pub(super) struct PreparedReply {
    pub(super) access_token: Prepared,
    pub(super) expires_in: u64,
    pub(super) refresh_token: Prepared,
    pub(super) scope: String,
}

impl PreparedReply {
    pub(super) fn sign(self) -> Result<TokenReply, IssueError> {
        Ok(TokenReply {
            access_token: self.access_token.sign()?,
            token_type: "Bearer",
            expires_in: self.expires_in,
            refresh_token: self.refresh_token.sign()?,
            scope: self.scope,
        })
    }
}

impl fmt::Debug for TokenReply {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("TokenReply")
            .field("expires_in", &self.expires_in)
            .field("scope", &self.scope)
            .finish_non_exhaustive()
    }
}
