//! Which endpoints there are.

/// One of the [endpoints](crate::endpoints).
///
/// ```
/// # async fn example(sessions: std::sync::Arc<vorsel::Sessions<vorsel::NoOwn>>) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::endpoints::{Endpoint, Endpoints};
///
/// let endpoints = Endpoints::new(sessions, "https://id.skarnhill.test")
///     .at(Endpoint::Token, "/renew")
///     .with(Endpoint::Introspection)
///     .without(Endpoint::Metadata);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Endpoint {
    /// Renewal, and tokens for clients themselves.
    Token,
    /// Sign-out.
    Revocation,
    /// What a token is worth; only clients that prove who they are and [may ask](crate::Client::may_introspect) get an answer.
    Introspection,
    /// What is revoked, told to services without the store; only clients that prove who they are and
    /// [may follow](crate::Client::may_follow) get an answer.
    Feed,
    /// The public keys.
    KeySet,
    /// Where the others are.
    Metadata,
    /// Who issues tokens for this API.
    ResourceMetadata,
    /// The caller's own sessions: listed, ended. These need a caller.
    OwnSessions,
    /// A ticket for a web socket or an event source; there if they are [set up](super::Endpoints::tickets). It needs a caller.
    Ticket,
    /// Signing in by password; there if it is [set up](super::Endpoints::sign_in).
    #[cfg(feature = "password")]
    SignIn,
}

impl Endpoint {
    /// Those that are there unless they are left out.
    pub(super) const USUAL: [Self; 4] = [Self::Token, Self::Revocation, Self::KeySet, Self::Metadata];

    /// Its path under the prefix; nothing for what a standard has put elsewhere.
    pub(super) const fn name(self) -> Option<&'static str> {
        match self {
            Self::Token => Some("token"),
            Self::Revocation => Some("revoke"),
            Self::Introspection => Some("introspect"),
            Self::Feed => Some("feed"),
            Self::KeySet => Some("keys"),
            Self::OwnSessions => Some("sessions"),
            Self::Ticket => Some("ticket"),
            Self::Metadata | Self::ResourceMetadata => None,
            #[cfg(feature = "password")]
            Self::SignIn => Some("sign-in"),
        }
    }

    /// Whether the plan has to guard it.
    pub(super) const fn needs_caller(self) -> bool {
        matches!(self, Self::OwnSessions | Self::Ticket)
    }

    /// What the log calls it.
    pub(super) const fn label(self) -> &'static str {
        match self {
            Self::Token => "token",
            Self::Revocation => "revocation",
            Self::Introspection => "introspection",
            Self::Feed => "feed",
            Self::KeySet => "key-set",
            Self::Metadata => "metadata",
            Self::ResourceMetadata => "resource-metadata",
            Self::OwnSessions => "own-sessions",
            Self::Ticket => "ticket",
            #[cfg(feature = "password")]
            Self::SignIn => "sign-in",
        }
    }
}
