//! Reading a token that nobody has checked, for the desk.

use serde::Deserialize;
use serde_json::Value;

use super::jws::{Compact, SIZE_LIMIT};
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
struct Named {
    #[serde(default)]
    iss: Option<String>,
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
    /// it can't be read, or is larger than tokens are.
    #[must_use]
    pub fn issuer_named(token: impl AsRef<[u8]>) -> Option<String> {
        let parts = Compact::read(token.as_ref(), SIZE_LIMIT).ok()?;
        serde_json::from_slice::<Named>(&parts.payload).ok()?.iss
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
        let deep = format!("{{\"iss\":\"x\",\"a\":{}{}}}", "[".repeat(4_000), "]".repeat(4_000));
        // Whoever checks it refuses it; until then it costs no stack.
        assert_eq!(UncheckedToken::issuer_named(token(&deep)).as_deref(), Some("x"));
        assert_eq!(UncheckedToken::issuer_named(format!("{}.x", "a".repeat(100_000))), None);
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
