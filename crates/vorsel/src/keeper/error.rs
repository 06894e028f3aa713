//! What goes wrong with a pair of tokens, told so that a program can go on from there.

use std::time::Duration;

use http::header::WWW_AUTHENTICATE;
use http::{HeaderMap, StatusCode};

/// Why there is no access token.
///
/// ```
/// use vorsel::{KeeperError, TokenKeeper};
///
/// let error = TokenKeeper::builder("http://id.skarnhill.test/oauth/token", "desk").build().unwrap_err();
/// assert!(matches!(error, KeeperError::SetUp { .. }), "{error}");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum KeeperError {
    /// Nobody is signed in, or the session is over. Nothing is asked any more until new tokens [begin](super::TokenKeeper::begin).
    #[error("somebody has to sign in again: {reason}")]
    SignInAgain {
        /// What the issuer says.
        reason: String,
    },
    /// The issuer can't be asked now: it is down, slow, or has too much to do. The tokens are kept.
    #[error("the issuer can't be asked now: {reason}")]
    Unavailable {
        /// Why.
        reason: String,
        /// When the issuer wants to be asked again, if it says so.
        retry_after: Option<Duration>,
    },
    /// The issuer refuses the client or what it asks for; asking again won't help.
    #[error("the issuer refuses the request: {code}{}", .description.as_ref().map(|text| format!(", {text}")).unwrap_or_default())]
    Refused {
        /// The error of [RFC 6749 section 5.2](https://www.rfc-editor.org/rfc/rfc6749#section-5.2).
        code: String,
        /// The issuer's words.
        description: Option<String>,
    },
    /// The keeper is set up wrongly; it was not made.
    #[error("no keeper can be set up: {reason}")]
    SetUp {
        /// What was expected and what was found.
        reason: String,
    },
    /// The issuer's answer is none.
    #[error("expected a token reply (RFC 6749 section 5.1), but found {found}")]
    Garbled {
        /// What was there.
        found: String,
    },
    /// The place where the tokens are kept can't be read.
    #[error("the kept tokens can't be read: {reason}")]
    Place {
        /// Why.
        reason: String,
    },
}

impl KeeperError {
    /// The name of what went wrong, for figures and scripts.
    #[must_use]
    pub const fn code(&self) -> &'static str {
        match self {
            Self::SignInAgain { .. } => "sign-in-again",
            Self::Unavailable { .. } => "unavailable",
            Self::Refused { .. } => "refused",
            Self::SetUp { .. } => "set-up",
            Self::Garbled { .. } => "garbled",
            Self::Place { .. } => "place",
        }
    }
}

/// Why a request has no answer that its sender can use.
///
/// ```
/// # async fn example(keeper: &vorsel::TokenKeeper, request: reqwest::RequestBuilder) -> Result<(), Box<dyn std::error::Error>> {
/// use vorsel::{KeeperError, SendError};
///
/// match keeper.send(request).await {
///     Ok(response) => println!("{}", response.status()),
///     Err(SendError::Keeper(KeeperError::SignInAgain { reason })) => println!("please sign in: {reason}"),
///     Err(error) => println!("not now: {error}"),
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SendError<E> {
    /// There is no access token.
    #[error(transparent)]
    Keeper(#[from] KeeperError),
    /// The API wants something else than a fresh token, or did not accept a fresh one either.
    #[error("the API answers 401: {challenge}")]
    Unauthorized {
        /// Its challenge, empty if there is none.
        challenge: String,
    },
    /// The token was refused and is renewed; but the body of the request was sent away and can't be sent again. Whether to make it anew is
    /// for the sender to say.
    #[error("the token was renewed, but the request has a body that can't be repeated: send it anew")]
    NotRepeated,
    /// The request failed.
    #[error("the request failed")]
    Failed(#[source] E),
}

/// The challenges of a 401.
pub(super) fn refused(status: StatusCode, headers: &HeaderMap) -> Option<String> {
    let challenges = headers.get_all(WWW_AUTHENTICATE).iter().filter_map(|value| value.to_str().ok());
    (status == StatusCode::UNAUTHORIZED).then(|| challenges.collect::<Vec<_>>().join(", "))
}

/// Whether a challenge says that the token is not good any more
/// ([RFC 6750 section 3.1](https://www.rfc-editor.org/rfc/rfc6750#section-3.1)).
pub(super) fn says_invalid_token(challenge: &str) -> bool {
    challenge.contains("error=\"invalid_token\"") || challenge.contains("error=invalid_token")
}
