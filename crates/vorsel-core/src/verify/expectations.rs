//! What a verifier requires of a token.

use std::time::Duration;

use crate::key::Algorithm;
use crate::time::LARGEST_SKEW;
use crate::token::{Issuer, Kind, Reading, SIZE_LIMIT};

/// What a verifier requires of a token.
///
/// The constructors ask for everything that must be decided; what weakens a check has `danger` in its name.
///
/// ```
/// use std::time::Duration;
/// use vorsel_core::Expectations;
///
/// let expectations = Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test");
/// assert!(expectations.clone().skew(Duration::from_secs(30)).is_ok());
/// assert!(expectations.skew(Duration::from_secs(3_600)).is_err(), "that would be a longer lifetime by another name");
/// ```
#[derive(Clone, Debug)]
pub struct Expectations {
    pub(crate) kind: Kind,
    pub(crate) issuer: Option<String>,
    pub(crate) audience: ExpectedAudience,
    pub(crate) algorithms: Option<Vec<Algorithm>>,
    pub(crate) skew: Duration,
    pub(crate) issuer_ahead: Duration,
    pub(crate) required: Vec<String>,
    pub(crate) size_limit: usize,
    pub(crate) reading: Reading,
    /// Whether access tokens may have no `typ`, or `JWT`.
    pub(crate) untyped: bool,
}

#[derive(Clone, Debug)]
pub(crate) enum ExpectedAudience {
    /// One of these must be among the token's audiences.
    OneOf(Vec<String>),
    /// The verifier is nobody's audience: a token that names one is not for it.
    Absent,
    Any,
}

/// A clock skew above the ceiling.
///
/// ```
/// use std::time::Duration;
/// # use vorsel_core::Expectations;
/// # let expectations = Expectations::plain("https://id.skarnhill.test");
/// let error = expectations.skew(Duration::from_secs(3_600)).unwrap_err();
/// assert_eq!(error.to_string(), "expected a clock skew of at most 300 s, but found 3600 s");
/// ```
#[derive(Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("expected a clock skew of at most {} s, but found {} s", Expectations::LARGEST_SKEW.as_secs(), .found.as_secs_f64())]
pub struct SkewError {
    /// What was asked for.
    pub found: Duration,
}

readable_debug!(SkewError);

impl Expectations {
    /// The largest clock skew that can be set: more would be a longer lifetime under another name.
    pub const LARGEST_SKEW: Duration = LARGEST_SKEW;
    /// The clock skew if none is set: what machines that keep time by NTP stay within.
    pub const DEFAULT_SKEW: Duration = Duration::from_secs(5);
    /// The largest token if nothing else is set: 16 KiB, more than a header line may have in most servers.
    pub const DEFAULT_SIZE_LIMIT: usize = SIZE_LIMIT;

    /// Access tokens from `issuer` for `audience`, as [RFC 9068 section 4](https://www.rfc-editor.org/rfc/rfc9068#section-4)
    /// has a resource server check them.
    #[must_use]
    pub fn access(issuer: impl Into<String>, audience: impl Into<String>) -> Self {
        Self::of(Kind::Access, Some(issuer.into()), ExpectedAudience::OneOf(vec![audience.into()]))
    }

    /// Access tokens from an issuer that does not keep to RFC 9068: `typ` may be `JWT` or absent, and `client_id`, `iat` and `jti` may be
    /// missing. A token with `nonce`, `at_hash` or `c_hash` says who has signed in at a client, and is no access token
    /// ([RFC 8725 section 3.11](https://www.rfc-editor.org/rfc/rfc8725#section-3.11)). Take it for issuers alone that can do no better: any
    /// other JWT of theirs for this audience passes.
    #[must_use]
    pub fn access_in_any_jwt(issuer: impl Into<String>, audience: impl Into<String>) -> Self {
        let required = ["iss", "exp", "aud", "sub"].map(str::to_owned).into();
        Self { untyped: true, required, ..Self::access(issuer, audience) }
    }

    /// Refresh tokens from `issuer`, which is their audience too.
    #[must_use]
    pub fn refresh(issuer: impl Into<String>) -> Self {
        let issuer = issuer.into();
        Self::of(Kind::Refresh, Some(issuer.clone()), ExpectedAudience::OneOf(vec![issuer]))
    }

    /// One-purpose tokens from `issuer`, which is their audience too.
    #[must_use]
    pub fn one_purpose(issuer: impl Into<String>) -> Self {
        let issuer = issuer.into();
        let expectations = Self::of(Kind::OnePurpose, Some(issuer.clone()), ExpectedAudience::OneOf(vec![issuer]));
        // Another instance's clock may be ahead.
        Self { issuer_ahead: Self::LARGEST_SKEW, ..expectations }
    }

    /// Security events from `issuer` for `audience`, whoever follows it
    /// ([RFC 8417 section 2.2](https://www.rfc-editor.org/rfc/rfc8417#section-2.2)). They have no `exp`.
    #[must_use]
    pub fn security_event(issuer: impl Into<String>, audience: impl Into<String>) -> Self {
        let audience = ExpectedAudience::OneOf(vec![audience.into()]);
        let expectations = Self::of(Kind::SecurityEvent, Some(issuer.into()), audience);
        // Nothing lives longer by a clock that is ahead.
        Self { issuer_ahead: Self::LARGEST_SKEW, size_limit: Issuer::LARGEST_SECURITY_EVENT, ..expectations }
    }

    /// Any JWT with an expiration time from `issuer`. A token that names an audience is refused unless
    /// [`audience`](Self::audience) names it too ([RFC 7519 section 4.1.3](https://www.rfc-editor.org/rfc/rfc7519#section-4.1.3)).
    #[must_use]
    pub fn plain(issuer: impl Into<String>) -> Self {
        Self::of(Kind::Plain, Some(issuer.into()), ExpectedAudience::Absent)
    }

    /// Tokens of this kind from any issuer for any audience, for a desk tool that looks at strange tokens. A server
    /// that checks like this accepts tokens that were made for somebody else.
    #[must_use]
    pub fn danger_from_anyone_for_anyone(kind: Kind) -> Self {
        Self::of(kind, None, ExpectedAudience::Any)
    }

    fn of(kind: Kind, issuer: Option<String>, audience: ExpectedAudience) -> Self {
        Self {
            kind,
            issuer,
            audience,
            algorithms: None,
            skew: Self::DEFAULT_SKEW,
            issuer_ahead: Duration::ZERO,
            required: kind.required_claims().iter().map(|name| (*name).to_owned()).collect(),
            size_limit: Self::DEFAULT_SIZE_LIMIT,
            reading: Reading::default(),
            untyped: false,
        }
    }

    /// Requires this issuer.
    #[must_use]
    pub fn issuer(mut self, issuer: impl Into<String>) -> Self {
        self.issuer = Some(issuer.into());
        self
    }

    /// Accepts this audience; called again, that one as well.
    #[must_use]
    pub fn audience(mut self, audience: impl Into<String>) -> Self {
        match &mut self.audience {
            ExpectedAudience::OneOf(accepted) => accepted.push(audience.into()),
            ExpectedAudience::Absent | ExpectedAudience::Any => {
                self.audience = ExpectedAudience::OneOf(vec![audience.into()]);
            }
        }
        self
    }

    /// Allows only these algorithms, where the keys would allow more.
    #[must_use]
    pub fn algorithms(mut self, algorithms: impl IntoIterator<Item = Algorithm>) -> Self {
        self.algorithms = Some(algorithms.into_iter().collect());
        self
    }

    /// Where these tokens keep subject, client, roles and scopes, if that is not where RFC 9068 has them.
    #[must_use]
    pub fn reading(mut self, reading: Reading) -> Self {
        self.reading = reading;
        self
    }

    /// Requires one more claim to be there.
    #[must_use]
    pub fn require(mut self, claim: impl Into<String>) -> Self {
        self.required.push(claim.into());
        self
    }

    /// The largest token that is looked at, in bytes, instead of [`DEFAULT_SIZE_LIMIT`](Self::DEFAULT_SIZE_LIMIT).
    #[must_use]
    pub const fn size_limit(mut self, bytes: usize) -> Self {
        self.size_limit = bytes;
        self
    }

    /// How far the issuer's clock may be from ours, for `exp`, `nbf`, `iat` and `auth_time`.
    ///
    /// # Errors
    /// If it is more than [`LARGEST_SKEW`](Self::LARGEST_SKEW).
    pub fn skew(mut self, skew: Duration) -> Result<Self, SkewError> {
        if skew > Self::LARGEST_SKEW {
            return Err(SkewError { found: skew });
        }
        self.skew = skew;
        Ok(self)
    }

    /// How far the issuer's clock may be ahead of ours, for `nbf`, `iat` and `auth_time`, where that is more than the
    /// [skew](Self::skew): for tokens that other instances of the same service issue. Nothing lives longer by it.
    ///
    /// # Errors
    /// If it is more than [`LARGEST_SKEW`](Self::LARGEST_SKEW).
    pub fn issuer_ahead(mut self, difference: Duration) -> Result<Self, SkewError> {
        if difference > Self::LARGEST_SKEW {
            return Err(SkewError { found: difference });
        }
        self.issuer_ahead = difference;
        Ok(self)
    }

    /// The issuer expected; nothing if anybody's tokens are.
    #[must_use]
    pub fn expected_issuer(&self) -> Option<&str> {
        self.issuer.as_deref()
    }

    /// The kind of token expected.
    #[must_use]
    pub const fn kind(&self) -> Kind {
        self.kind
    }

    /// The audience a challenge names as its realm: the first one accepted.
    #[must_use]
    pub fn first_audience(&self) -> Option<&str> {
        match &self.audience {
            ExpectedAudience::OneOf(accepted) => accepted.first().map(String::as_str),
            ExpectedAudience::Absent | ExpectedAudience::Any => None,
        }
    }
}
