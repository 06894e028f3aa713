//! What registered clients have to do with sessions, and the tokens that they get for themselves.

use std::fmt;

use serde::Serialize;
use vorsel_core::{AccessDraft, IssueError, Scopes, SignIn};

use super::error::StartError;
use super::{Inner, Sessions};
use crate::admission::AdmissionError;
use crate::audit;
use crate::clients::{Client, ClientGrant};
use crate::random::{RandomError, random_id};

/// The answer to a client that acts for itself ([RFC 6749 section 4.4.3](https://www.rfc-editor.org/rfc/rfc6749#section-4.4.3)): it
/// has no refresh token. `Debug` does not show the token.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, archive: &vorsel::Client) -> Result<(), Box<dyn std::error::Error>> {
/// let reply = sessions.for_client(archive, None, None).await?;
/// println!("{} for {} s", reply.scope, reply.expires_in);
/// # Ok(())
/// # }
/// ```
#[derive(Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ClientReply {
    /// The access token.
    pub access_token: String,
    /// `Bearer`.
    pub token_type: &'static str,
    /// The access token's lifetime in seconds.
    pub expires_in: u64,
    /// The scopes granted, with a space between them.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub scope: String,
}

impl fmt::Debug for ClientReply {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { expires_in, scope, .. } = self;
        f.debug_struct("ClientReply").field("expires_in", expires_in).field("scope", scope).finish_non_exhaustive()
    }
}

/// Why a client has no token for itself.
///
/// ```
/// # async fn example(sessions: &vorsel::Sessions<vorsel::NoOwn>, archive: &vorsel::Client) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::ClientTokenError;
///
/// match sessions.for_client(archive, None, None).await {
///     Err(ClientTokenError::NoGrant { client_id }) => println!("{client_id} may not act for itself"),
///     Err(error) if error.may_pass() => println!("later: {error}"),
///     other => drop(other?),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientTokenError {
    /// It may not act for itself.
    #[error("the client {client_id:?} may not act for itself")]
    NoGrant {
        /// Which client.
        client_id: String,
    },
    /// More scopes were asked for than it may have.
    #[error("expected scopes within {most:?}, but found {asked:?}")]
    Scopes {
        /// What it may have.
        most: String,
        /// What was asked for.
        asked: String,
    },
    /// It may not have tokens for this audience.
    #[error("expected an audience of the client's, but found {found:?}")]
    Audience {
        /// What was asked for.
        found: String,
    },
    /// The app did not admit it, or could not tell.
    #[error(transparent)]
    Admission(#[from] AdmissionError),
    /// The token could not be issued.
    #[error("the token could not be issued")]
    Issue(#[from] IssueError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
}

impl ClientTokenError {
    /// Whether the client may try again.
    #[must_use]
    pub const fn may_pass(&self) -> bool {
        matches!(self, Self::Issue(_) | Self::Random(_) | Self::Admission(AdmissionError::Unavailable(_)))
    }
}

impl<C: Serialize + Send + Sync + 'static> Sessions<C> {
    /// Issues an access token to a client that acts for itself; the token is its own subject
    /// ([RFC 6749 section 4.4](https://www.rfc-editor.org/rfc/rfc6749#section-4.4)). Whoever calls this has made sure that it is
    /// that client. It has the scopes asked for, else all that it may have, of those that the app grants it now.
    ///
    /// # Errors
    /// If the client may not do that, or not with these scopes or for this audience; if the app does not
    /// [admit](crate::Admission::admit_client) it; or if no token can be issued.
    pub async fn for_client(
        &self,
        client: &Client,
        scopes: Option<&Scopes>,
        audience: Option<&str>,
    ) -> Result<ClientReply, ClientTokenError> {
        let (access, client_id) = (self.access_tokens(), client.id());
        if !client.has_grant(ClientGrant::ClientCredentials) || client.is_public() {
            return Err(ClientTokenError::NoGrant { client_id: client_id.to_owned() });
        }
        let most = client.most_scopes();
        if let Some(asked) = scopes.filter(|asked| !asked.is_subset(most)) {
            return Err(ClientTokenError::Scopes { most: most.to_string(), asked: asked.to_string() });
        }
        let draft = match audience.filter(|audience| *audience != access.audience()) {
            None => access.draft(client_id, client_id),
            Some(other) if client.has_audience(other) => {
                AccessDraft::of(client_id).audience(other).client(client_id).lasting(access.lifetime())
            }
            Some(other) => return Err(ClientTokenError::Audience { found: other.to_owned() }),
        };
        let grant = self.0.admission.admit_client(client_id).await?;
        let scopes = grant.scopes.within(scopes.unwrap_or(most));
        let scope = scopes.to_string();
        let draft = draft.roles(grant.roles).scopes(scopes).own(grant.own);
        let access_token = access.prepare(&draft, &random_id()?, access.now())?.sign()?;
        tracing::debug!(
            target: "vorsel::audit", event = "client-token", client = audit::cut(client_id), scope, "a client has a token",
        );
        Ok(ClientReply { access_token, token_type: "Bearer", expires_in: access.lifetime().as_secs(), scope })
    }
}

impl<C: Serialize + Send + Sync + 'static> Inner<C> {
    /// The sign-in with the ceiling of its scopes ([RFC 6749 section 6](https://www.rfc-editor.org/rfc/rfc6749#section-6)): what was
    /// asked for, else all that the client may have, else what the plan declares.
    pub(super) async fn under_its_ceiling(&self, sign_in: SignIn) -> Result<SignIn, StartError> {
        let Some(clients) = &self.clients else {
            return Ok(match (sign_in.asked_scopes(), &self.declared) {
                (None, Some(declared)) => sign_in.scopes(declared.clone()),
                _ => sign_in,
            });
        };
        let find = async |name: &str| clients.find(name).await.map_err(AdmissionError::Unavailable);
        if find(sign_in.subject()).await?.is_some() {
            return Err(StartError::SubjectIsClient { subject: sign_in.subject().to_owned() });
        }
        let client = find(sign_in.client_id()).await?;
        let Some(client) = client.filter(|client| client.has_grant(ClientGrant::RefreshToken)) else {
            return Err(StartError::UnknownClient { found: sign_in.client_id().to_owned() });
        };
        let most = client.most_scopes();
        match sign_in.asked_scopes() {
            None => Ok(sign_in.scopes(most.clone())),
            Some(asked) if asked.is_subset(most) => Ok(sign_in),
            Some(asked) => Err(StartError::Scopes { most: most.to_string(), asked: asked.to_string() }),
        }
    }
}
