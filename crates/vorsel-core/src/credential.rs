//! What a caller came by: a token in the header, a token in a cookie, an API key, a ticket.

use std::fmt;
use std::str::FromStr;

/// One kind of credential.
///
/// ```
/// use vorsel_core::Credential;
///
/// assert_eq!("cookie".parse::<Credential>()?, Credential::Cookie);
/// assert_eq!(Credential::ApiKey.name(), "api-key");
/// # Ok::<(), vorsel_core::CredentialError>(())
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Credential {
    /// An access token in the `Authorization` header
    /// ([RFC 6750 section 2.1](https://www.rfc-editor.org/rfc/rfc6750#section-2.1)).
    Bearer,
    /// An access token in a cookie.
    Cookie,
    /// An API key in a header of the app's choice.
    ApiKey,
    /// A ticket in the query, which stands for an access token once and for half a minute: for web sockets and event sources, which
    /// can't send a header.
    Ticket,
}

impl Credential {
    /// Every kind, in the order in which a guard looks for them.
    pub const ALL: [Self; 4] = [Self::Bearer, Self::Cookie, Self::ApiKey, Self::Ticket];

    /// The name in rules: `bearer`, `cookie`, `api-key`, `ticket`.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Bearer => "bearer",
            Self::Cookie => "cookie",
            Self::ApiKey => "api-key",
            Self::Ticket => "ticket",
        }
    }

    /// The kind of that name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// A text that names no kind of credential.
///
/// ```
/// let error = "letter".parse::<vorsel_core::Credential>().unwrap_err();
/// assert_eq!(error.to_string(), "expected bearer, cookie, api-key or ticket, but found \"letter\"");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected bearer, cookie, api-key or ticket, but found {found:?}")]
pub struct CredentialError {
    /// The text.
    pub found: String,
}

impl FromStr for Credential {
    type Err = CredentialError;

    fn from_str(name: &str) -> Result<Self, CredentialError> {
        Self::named(name).ok_or_else(|| CredentialError { found: name.to_owned() })
    }
}

impl fmt::Display for Credential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

/// The kinds of credential that one request came with, all for the same caller.
///
/// ```
/// use vorsel_core::{Credential, Credentials};
///
/// let both = Credentials::from(Credential::Bearer).with(Credential::ApiKey);
/// assert!(both.contains(Credential::ApiKey) && !both.contains(Credential::Cookie));
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Credentials(u8);

impl Credentials {
    /// None.
    pub const NONE: Self = Self(0);

    /// These and `kind`.
    #[must_use]
    pub const fn with(self, kind: Credential) -> Self {
        Self(self.0 | 1 << kind as u8)
    }

    /// Whether `kind` is among them.
    #[must_use]
    pub const fn contains(self, kind: Credential) -> bool {
        self.0 & 1 << kind as u8 != 0
    }

    /// Each of them.
    pub fn iter(self) -> impl Iterator<Item = Credential> {
        Credential::ALL.into_iter().filter(move |kind| self.contains(*kind))
    }
}

impl FromIterator<Credential> for Credentials {
    fn from_iter<I: IntoIterator<Item = Credential>>(kinds: I) -> Self {
        kinds.into_iter().fold(Self::NONE, Self::with)
    }
}

impl From<Credential> for Credentials {
    fn from(kind: Credential) -> Self {
        Self::NONE.with(kind)
    }
}
