//! The app's say at sign-in and at every renewal: who the subject is now, and whether it may come in.

use std::error::Error;

use async_trait::async_trait;
use vorsel_core::Scopes;

/// Looks a subject up at sign-in and again at every renewal, so that a role raised or withdrawn takes effect at the
/// next renewal.
///
/// ```
/// use vorsel::{Admission, AdmissionError, Grant, NoOwn, Scopes};
///
/// struct People;
///
/// #[async_trait::async_trait]
/// impl Admission<NoOwn> for People {
///     async fn admit(&self, subject: &str, _client: &str) -> Result<Grant<NoOwn>, AdmissionError> {
///         if subject != "ope-0002" {
///             return Err(AdmissionError::Denied { reason: "nobody of this subject".to_owned() });
///         }
///         Ok(Grant { roles: vec!["operator".to_owned()], scopes: Scopes::default(), own: NoOwn {} })
///     }
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "`{Self}` admits nobody with own claims of type `{C}`",
    note = "implement Admission<{C}> for it: given a subject and a client it says what they may do now"
)]
#[async_trait]
pub trait Admission<C>: Send + Sync {
    /// What the subject may do now.
    ///
    /// # Errors
    /// [`AdmissionError::Denied`] if the subject is not to come in; at a renewal this ends the session.
    /// [`AdmissionError::Unavailable`] if nobody can tell; then nothing changes and the client may try again.
    async fn admit(&self, subject: &str, client_id: &str) -> Result<Grant<C>, AdmissionError>;

    /// What a registered client may do now that acts for itself; it has proven who it is. Nothing, unless the app says otherwise.
    ///
    /// # Errors
    /// As [`admit`](Self::admit).
    async fn admit_client(&self, client_id: &str) -> Result<Grant<C>, AdmissionError> {
        Err(AdmissionError::Denied {
            reason: format!("Admission::admit_client is not written, so {client_id:?} can't act for itself"),
        })
    }
}

/// What goes into the access tokens of a subject.
///
/// ```
/// use vorsel::{Grant, NoOwn, Scopes};
///
/// let grant = Grant {
///     roles: vec!["observer".to_owned()],
///     scopes: Scopes::parse("exposures:read logs:write")?,
///     own: NoOwn {},
/// };
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Grant<C> {
    /// The subject's roles.
    pub roles: Vec<String>,
    /// The scopes granted.
    pub scopes: Scopes,
    /// The app's own claims.
    pub own: C,
}

/// Why a subject was not admitted.
///
/// ```
/// use vorsel::AdmissionError;
///
/// let left = AdmissionError::Denied { reason: "has left the observatory".to_owned() }; // ends the session
/// let down = AdmissionError::Unavailable("the directory does not answer".into()); // it may be renewed later
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum AdmissionError {
    /// The subject may not come in, for this reason. The reason goes to the log, not to the client.
    #[error("the subject is not admitted: {reason}")]
    Denied {
        /// Why.
        reason: String,
    },
    /// It cannot be told now.
    #[error("the subject cannot be looked up now")]
    Unavailable(#[source] Box<dyn Error + Send + Sync>),
}
