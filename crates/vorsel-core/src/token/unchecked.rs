//! Reading a token that nobody has checked, for the desk.

use std::borrow::Cow;

use memchr::memchr3_iter;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::Value;

use super::jws::{Compact, Header, SIZE_LIMIT};
use crate::encoding::json::{self, Object};
use crate::finding::Detail;

/// A token as it says of itself. Nothing in it is checked, so nothing may be decided by it; a handler never needs
/// this type.
///
/// ```
/// use vorsel_core::{Algorithm, AccessDraft, Issuer, Lifetime, SigningKey, Timestamp, UncheckedToken};
///
/// let issuer = Issuer::new("https://id.skarnhill.test", SigningKey::generate(Algorithm::EdDsa)?);
/// let draft = AccessDraft::of("obs-0017").audience("https://api.skarnhill.test").client("desk").lasting(Lifetime::minutes(5));
/// let token = issuer.access(&draft, "t-1", Timestamp::from_secs(1_800_000_000))?;
/// assert!(UncheckedToken::read(&token).is_ok(), "read, and not believed");
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
pub struct UncheckedToken {
    header: Object,
    claims: Option<Object>,
}

/// The one claim of interest.
#[derive(Deserialize)]
struct IssuerNamed {
    #[serde(default)]
    iss: Option<String>,
}

#[derive(Deserialize)]
struct SubjectNamed {
    #[serde(default)]
    sub: Option<String>,
}

/// How many lists, objects and commas the claims may have of a token that anybody can have made: each costs far more than a letter.
const MOST_PARTS: usize = 1_024;

/// What the claims of a token say that nobody has checked.
fn named<T: DeserializeOwned>(token: &[u8]) -> Option<T> {
    let parts = Compact::read(token, SIZE_LIMIT).ok()?;
    let has_too_many = memchr3_iter(b',', b'[', b'{', &parts.payload).nth(MOST_PARTS).is_some();
    if has_too_many { None } else { serde_json::from_slice(&parts.payload).ok() }
}

/// The text is not a token that can be taken apart.
///
/// ```
/// let error = vorsel_core::UncheckedToken::read("no token").unwrap_err();
/// assert_eq!(error.to_string(), "expected three base64url segments with a dot between them, but found 1 of them");
/// ```
#[derive(Debug, thiserror::Error)]
#[error("expected {expected}, but found {found}")]
pub struct UncheckedError {
    /// What would be right.
    pub expected: String,
    /// What was there.
    pub found: String,
}

impl UncheckedToken {
    /// Takes a token of any size apart.
    ///
    /// # Errors
    /// If it is not in compact form or its header is not a strict JSON object.
    pub fn read(token: impl AsRef<[u8]>) -> Result<Self, UncheckedError> {
        let token = token.as_ref();
        let wrong = |detail: Detail| UncheckedError { expected: detail.expected, found: detail.found };
        let parts = Compact::read(token, token.len()).map_err(wrong)?;
        let header = parts.header().map_err(wrong)?;
        let header = json::object(&header)
            .map_err(|error| wrong(Detail::new("a header that is one strict JSON object", error.found())))?;
        Ok(Self { header, claims: json::object(&parts.payload).ok() })
    }

    /// The issuer that a token names, of which nobody knows yet whether it has made it: to choose whose keys to check it with. Nothing if
    /// it can't be read, is larger than tokens are, or has more than 1,024 lists, objects and commas in its claims.
    #[must_use]
    pub fn issuer_named(token: impl AsRef<[u8]>) -> Option<String> {
        named::<IssuerNamed>(token.as_ref())?.iss
    }

    /// The subject that a token names, as [`issuer_named`](Self::issuer_named) the issuer: to choose which client's keys to check an
    /// assertion with.
    #[must_use]
    pub fn subject_named(token: impl AsRef<[u8]>) -> Option<String> {
        named::<SubjectNamed>(token.as_ref())?.sub
    }

    /// The `typ` that a token's header names: to choose where it is to be checked. Nothing if there is none, or the token is none or larger
    /// than tokens are.
    #[must_use]
    pub fn typ_named(token: impl AsRef<[u8]>) -> Option<String> {
        let header = Compact::read(token.as_ref(), SIZE_LIMIT).ok()?.header().ok()?;
        Header::read(&header).ok()?.typ.map(Cow::into_owned)
    }

    /// The header as it was written.
    #[must_use]
    pub const fn header(&self) -> &Object {
        &self.header
    }

    /// The claims as they were written, if they are a strict JSON object.
    #[must_use]
    pub const fn claims(&self) -> Option<&Object> {
        self.claims.as_ref()
    }

    /// One claim that nobody vouches for.
    #[must_use]
    pub fn claim(&self, name: &str) -> Option<&Value> {
        self.claims.as_ref()?.get(name)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::encoding::base64url;
    use crate::token::{Reading, payload};

    fn token(claims: &str) -> String {
        format!("{}.{}.AAAA", base64url::encode(r#"{"alg":"EdDSA"}"#), base64url::encode(claims))
    }

    #[test]
    fn the_issuer_named_is_one_text_or_nobody() {
        for (claims, expected) in [
            (r#"{"iss":"https://id.skarnhill.test"}"#, Some("https://id.skarnhill.test")),
            (r#"{"sub":"a","iss":"x","more":{"iss":"y"}}"#, Some("x")),
            (r#"{"\u0069ss":"x"}"#, Some("x")),
            (r#"{"iss":"x","iss":"y"}"#, None),
            (r#"{"iss":["x"]}"#, None),
            (r#"{"iss":null}"#, None),
            (r#"{"more":{"iss":"y"}}"#, None),
            ("[]", None),
            ("", None),
        ] {
            assert_eq!(UncheckedToken::issuer_named(token(claims)).as_deref(), expected, "{claims}");
        }
        let many = |count| format!("{{\"iss\":\"x\",\"a\":[{}]}}", vec!["0"; count].join(","));
        for (count, expected) in [(MOST_PARTS - 2, Some("x")), (MOST_PARTS - 1, None)] {
            assert_eq!(UncheckedToken::issuer_named(token(&many(count))).as_deref(), expected, "{count}");
        }
        let deep = format!("{{\"iss\":\"x\",\"a\":{}{}}}", "[".repeat(1_000), "]".repeat(1_000));
        // Whoever checks it refuses it; until then it costs no stack.
        assert_eq!(UncheckedToken::issuer_named(token(&deep)).as_deref(), Some("x"));
        assert_eq!(UncheckedToken::issuer_named(format!("{}.x", "a".repeat(100_000))), None);
    }

    #[test]
    fn a_subject_and_a_typ_are_named_like_an_issuer() {
        for (claims, expected) in [
            (r#"{"sub":"archive","iss":7}"#, Some("archive")),
            (r#"{"sub":["archive"]}"#, None),
            (r#"{"iss":"archive"}"#, None),
            ("", None),
        ] {
            assert_eq!(UncheckedToken::subject_named(token(claims)).as_deref(), expected, "{claims}");
        }
        for (header, expected) in [
            (r#"{"alg":"EdDSA","typ":"at+jwt"}"#, Some("at+jwt")),
            (r#"{"alg":"EdDSA"}"#, None),
            (r#"{"alg":"EdDSA","typ":7}"#, None),
            ("[]", None),
        ] {
            let token = format!("{}.e30.AAAA", base64url::encode(header));
            assert_eq!(UncheckedToken::typ_named(token).as_deref(), expected, "{header}");
        }
        assert_eq!(UncheckedToken::typ_named("no token"), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever a checker would go by later, the same issuer is named before; made of whole claims, of broken ones, and of any bytes.
        #[test]
        fn what_is_named_is_what_is_checked_later(
            name in prop_oneof![Just("iss"), Just("sub"), Just("ISS")],
            value in prop_oneof![Just("\"x\"".to_owned()), Just("7".to_owned()), "\"[a-z\\\\\"]{0,6}\"?"],
            twice: bool,
        ) {
            let member = format!("\"{name}\":{value}");
            let claims = if twice { format!("{{{member},{member}}}") } else { format!("{{{member}}}") };
            let named = UncheckedToken::issuer_named(token(&claims));
            if let Ok(read) = payload::read(claims.clone().into_bytes(), &Reading::default()) {
                prop_assert_eq!(named.as_deref(), read.issuer(), "{}", claims);
            }
        }

        #[test]
        fn naming_never_panics(bytes: Vec<u8>) {
            let _ = UncheckedToken::issuer_named(&bytes);
        }
    }
}
