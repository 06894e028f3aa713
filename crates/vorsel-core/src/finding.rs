//! Findings: what each check expected and found.

use std::fmt;

use serde::ser::SerializeStruct;
use serde::{Serialize, Serializer};

/// One of the checks a token goes through, in the order in which they are made.
///
/// ```
/// use vorsel_core::Check;
///
/// assert_eq!((Check::Audience.code(), Check::Audience.section()), ("wrong-audience", "RFC 7519 section 4.1.3"));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Check {
    /// Size, segments, base64url, and the header as a strict JSON object.
    TokenForm,
    /// No extension of the header is marked critical.
    Critical,
    /// The token's kind, from `typ`.
    Kind,
    /// The header's algorithm is one that the verifier allows.
    Algorithm,
    /// A key for this token is known.
    Key,
    /// The signature.
    Signature,
    /// The claims as a strict JSON object whose registered members have their types.
    ClaimsForm,
    /// The claims that must be there.
    Required,
    /// The issuer.
    Issuer,
    /// The audience.
    Audience,
    /// The expiration time.
    Expiration,
    /// The not-before time.
    NotBefore,
    /// The issued-at time is not in the future.
    IssuedAt,
    /// The time of the caller's authentication is not in the future.
    AuthenticatedAt,
    /// The sender has proven to hold the key that the token is bound to.
    Confirmation,
    /// The app's own claims fit the app's type.
    OwnClaims,
    /// Nothing that the token stands on has been revoked: itself, its session, its subject's tokens, its key.
    Revocation,
}

impl Check {
    /// The finding's name when the check does not hold.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::TokenForm | Self::ClaimsForm => "malformed",
            Self::Critical => "critical-not-understood",
            Self::Kind => "wrong-kind",
            Self::Algorithm => "algorithm-not-allowed",
            Self::Key => "unknown-key",
            Self::Signature => "signature-mismatch",
            Self::Required => "missing-claim",
            Self::Issuer => "wrong-issuer",
            Self::Audience => "wrong-audience",
            Self::Expiration => "expired",
            Self::NotBefore | Self::IssuedAt | Self::AuthenticatedAt => "not-yet-valid",
            Self::Confirmation => "unproven-key",
            Self::OwnClaims => "misfit-claim",
            Self::Revocation => "revoked",
        }
    }

    /// What is checked, for people.
    #[must_use]
    pub const fn subject(self) -> &'static str {
        match self {
            Self::TokenForm => "token form",
            Self::Critical => "critical header members",
            Self::Kind => "kind",
            Self::Algorithm => "algorithm",
            Self::Key => "key",
            Self::Signature => "signature",
            Self::ClaimsForm => "claims form",
            Self::Required => "required claims",
            Self::Issuer => "issuer",
            Self::Audience => "audience",
            Self::Expiration => "expiration time",
            Self::NotBefore => "not before",
            Self::IssuedAt => "issued at",
            Self::AuthenticatedAt => "authentication time",
            Self::Confirmation => "proof of possession",
            Self::OwnClaims => "own claims",
            Self::Revocation => "revocation",
        }
    }

    /// The section of the standard that the check comes from.
    #[must_use]
    pub const fn section(self) -> &'static str {
        match self {
            Self::TokenForm => "RFC 7515 section 5.2",
            Self::Critical => "RFC 7515 section 4.1.11",
            Self::Kind => "RFC 8725 section 3.11",
            Self::Algorithm => "RFC 8725 section 3.1",
            Self::Key => "RFC 7515 section 4.1.4",
            Self::Signature => "RFC 7515 section 5.2",
            Self::ClaimsForm => "RFC 7519 section 7.2",
            Self::Required => "RFC 9068 section 2.2",
            Self::Issuer => "RFC 7519 section 4.1.1",
            Self::Audience => "RFC 7519 section 4.1.3",
            Self::Expiration => "RFC 7519 section 4.1.4",
            Self::NotBefore => "RFC 7519 section 4.1.5",
            Self::IssuedAt => "RFC 7519 section 4.1.6",
            Self::AuthenticatedAt => "RFC 9068 section 2.2.1",
            Self::Confirmation => "RFC 7800 section 3.1",
            Self::OwnClaims => "RFC 7519 section 4.3",
            Self::Revocation => "RFC 7009 section 2",
        }
    }
}

/// The result of one check on one token.
///
/// `expected` and `found` quote at most a short, escaped piece of a claim, never the token or a key: they are fit for
/// a log, not for the client.
///
/// ```
/// # use vorsel_core::{Algorithm, Expectations, SigningKey, Timestamp, Verifier};
/// # let key = SigningKey::generate(Algorithm::EdDsa)?;
/// # let expectations = Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test");
/// # let verifier = Verifier::new([key.verifying_key()].into_iter().collect(), expectations);
/// let finding = verifier.check("no token", Timestamp::from_secs(1_700_000_000)).unwrap_err();
/// assert_eq!(finding.check.code(), "malformed");
/// assert_eq!(
///     finding.to_string(),
///     "malformed: expected three base64url segments with a dot between them, but found 1 of them (RFC 7515 \
///      section 5.2)",
/// );
/// # Ok::<(), vorsel_core::KeyError>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Finding {
    /// Which check.
    pub check: Check,
    /// Whether it held.
    pub held: bool,
    /// What the check wanted.
    pub expected: String,
    /// What it saw.
    pub found: String,
}

impl Serialize for Finding {
    /// An object of `check`, `held`, `code` (null if it held), `expected`, `found` and `section`.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut object = serializer.serialize_struct("Finding", 6)?;
        object.serialize_field("check", self.check.subject())?;
        object.serialize_field("held", &self.held)?;
        object.serialize_field("code", &(!self.held).then(|| self.check.code()))?;
        object.serialize_field("expected", &self.expected)?;
        object.serialize_field("found", &self.found)?;
        object.serialize_field("section", self.check.section())?;
        object.end()
    }
}

impl fmt::Display for Finding {
    /// One line: the code, expected, found, section.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let name = if self.held { self.check.subject() } else { self.check.code() };
        write!(f, "{name}: expected {}, but found {} ({})", self.expected, self.found, self.check.section())
    }
}

impl std::error::Error for Finding {}

/// Expected and found, made only when somebody wants to read them.
#[derive(Debug)]
pub(crate) struct Detail {
    pub(crate) expected: String,
    pub(crate) found: String,
}

impl Detail {
    pub(crate) fn new(expected: impl Into<String>, found: impl Into<String>) -> Self {
        Self { expected: expected.into(), found: cut(found.into(), LONGEST) }
    }
}

/// How many characters of what somebody sent a finding shows.
const LONGEST: usize = 200;

/// A text that a reader of JSON has put together, of which nobody knows how much the sender wrote.
pub(crate) fn cut(mut text: String, longest: usize) -> String {
    if let Some((end, _)) = text.char_indices().nth(longest) {
        let length = text.len();
        text.truncate(end);
        text.push_str(&format!("… ({length} bytes)"));
    }
    text
}

/// Text from a token as a finding may show it: escaped, in quotes, and cut after 80 characters.
pub(crate) fn quoted(text: &str) -> String {
    const LONGEST: usize = 80;
    match text.char_indices().nth(LONGEST) {
        None => format!("{text:?}"),
        Some((cut, _)) => format!("{:?}… ({} bytes)", &text[..cut], text.len()),
    }
}

/// Several texts, quoted and joined; at most five of them, and fewer of long ones.
pub(crate) fn quoted_list<'a>(texts: impl Iterator<Item = &'a str>) -> String {
    const MOST: usize = 5;
    let (mut list, mut shown, mut hidden) = (String::new(), 0, 0);
    for text in texts {
        if hidden > 0 || shown == MOST || shown > 0 && list.len() + text.len() > LONGEST {
            hidden += 1;
            continue;
        }
        list.push_str(if shown > 0 { ", " } else { "" });
        list.push_str(&quoted(text));
        shown += 1;
    }
    match (shown, hidden) {
        (0, _) => "nothing".to_owned(),
        (_, 0) => list,
        (_, more) => format!("{list} and {more} more"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_are_escaped_and_short() {
        assert_eq!(quoted("a\nb\u{1b}[31m\u{202e}"), r#""a\nb\u{1b}[31m\u{202e}""#);
        assert_eq!(quoted(&"é".repeat(81)), format!("\"{}\"… (162 bytes)", "é".repeat(80)));
        assert_eq!(quoted_list(["a"; 7].into_iter()), r#""a", "a", "a", "a", "a" and 2 more"#);
        assert_eq!(quoted_list([].into_iter()), "nothing");
        let long = "é".repeat(10_000);
        assert!(quoted_list([&*long; 9].into_iter()).chars().count() < 120);
        assert!(Detail::new("", long).found.chars().count() < 220);
    }

    #[test]
    fn a_finding_is_one_line_with_expected_found_and_section() {
        let finding = Finding {
            check: Check::Audience,
            held: false,
            expected: quoted("https://api.skarnhill.test"),
            found: quoted("https://elsewhere.test"),
        };
        assert_eq!(
            finding.to_string(),
            "wrong-audience: expected \"https://api.skarnhill.test\", but found \"https://elsewhere.test\" \
             (RFC 7519 section 4.1.3)"
        );
    }
}
