//! Tokens for one purpose: to confirm an address, to set a new password.

use aws_lc_rs::constant_time;
use aws_lc_rs::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};

use crate::encoding::base64url;
use crate::finding::Finding;
use crate::keyring::Keyring;
use crate::time::{Lifetime, Timestamp};
use crate::token::{Audience, Checked, ClaimsToWrite, IssueError, Issuer, Kind};
use crate::verify::{Expectations, Verifier};

/// What a one-purpose token is for.
///
/// ```
/// use vorsel_core::Purpose;
///
/// let purpose = Purpose { name: "reset-password", subject: "obs-0017", bound_to: "$argon2id$the-present-hash" };
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Purpose<'a> {
    /// The purpose, in the app's words: `reset-password`. A token for one is none for another.
    pub name: &'a str,
    /// Whom it is about.
    pub subject: &'a str,
    /// What it is bound to, so that it is worthless once that has changed: the address to confirm, the hash of the password that is to be
    /// replaced. The token does not show it.
    pub bound_to: &'a str,
}

/// Signs and checks one-purpose tokens, by the keys that sign refresh tokens: only the issuer checks either, and neither kind passes for the
/// other.
///
/// ```
/// use vorsel_core::{Algorithm, Lifetime, Purpose, PurposeTokens, Secret, SigningKey, Timestamp};
///
/// let now = Timestamp::from_secs(1_700_000_000);
/// let key = SigningKey::hmac(Algorithm::Hs256, Secret::from(std::array::from_fn::<u8, 32, _>(|place| place as u8)))?;
/// let tokens = PurposeTokens::new("https://id.skarnhill.test", key);
/// let purpose = Purpose { name: "reset-password", subject: "obs-0017", bound_to: "the present hash" };
/// let token = tokens.token(purpose, "p1", Lifetime::minutes(30), now)?;
/// assert!(tokens.check(&token, "confirm-address", now).is_err(), "a token for one purpose is none for another");
/// let shown = tokens.check(&token, "reset-password", now).expect("its own purpose");
/// assert!(shown.is_bound_to("the present hash") && !shown.is_bound_to("the next one"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Debug)]
pub struct PurposeTokens {
    issuer: Issuer,
    verifier: Verifier,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
struct PurposeClaims {
    purpose: String,
    bound: String,
}

/// A one-purpose token that was checked, but for what it is bound to, and for whether it was used before.
///
/// ```
/// use vorsel_core::PurposeShown;
///
/// fn may_set_a_password(shown: &PurposeShown, hash_of: impl Fn(&str) -> String) -> bool {
///     shown.is_bound_to(&hash_of(shown.subject()))
/// }
/// ```
#[derive(Clone, Debug)]
pub struct PurposeShown {
    subject: String,
    id: String,
    bound: String,
    expires_at: Timestamp,
}

impl PurposeTokens {
    /// One-purpose tokens in the name of `issuer`.
    pub fn new(issuer: impl Into<String>, keys: impl Into<Keyring>) -> Self {
        let (name, keyring) = (issuer.into(), keys.into());
        let verifier = Verifier::new(keyring.key_set(), Expectations::one_purpose(&name));
        Self { issuer: Issuer::new(name, keyring), verifier }
    }

    /// A token with this `jti`.
    ///
    /// # Errors
    /// If the subject is empty, no key signs, or the token would be too large.
    pub fn token(
        &self,
        purpose: Purpose<'_>,
        id: &str,
        lasting: Lifetime,
        now: Timestamp,
    ) -> Result<String, IssueError> {
        let (issuer, issued) = (self.issuer.name(), now.whole_secs());
        let own = PurposeClaims { purpose: purpose.name.to_owned(), bound: bound(id, purpose.bound_to) };
        let claims = ClaimsToWrite {
            exp: Some(issued.after(lasting.as_duration()).as_secs()),
            sub: Some(purpose.subject),
            ..ClaimsToWrite::of(issuer, Audience::One(issuer), id, issued, own)
        };
        self.issuer.write(Kind::OnePurpose, &claims, now)?.sign()
    }

    /// Checks a token's form, signature and times, and that it is for this purpose.
    ///
    /// # Errors
    /// The first finding that does not hold; nothing if it is for another purpose.
    pub fn check(&self, token: &str, name: &str, now: Timestamp) -> Result<PurposeShown, Option<Box<Finding>>> {
        let checked: Checked<PurposeClaims> = self.verifier.check_as(token, now).map_err(Some)?;
        let (claims, own) = (checked.claims(), checked.own());
        if own.purpose != name {
            return Err(None);
        }
        let text = |claim: Option<&str>| claim.unwrap_or_default().to_owned();
        Ok(PurposeShown {
            subject: text(claims.subject()),
            id: text(claims.id()),
            bound: own.bound.clone(),
            expires_at: claims.expires_at().unwrap_or(now),
        })
    }
}

impl PurposeShown {
    /// Whom it is about, to look up what it has to be bound to. It may have been used before.
    #[must_use]
    pub fn subject(&self) -> &str {
        &self.subject
    }

    /// Its `jti`.
    #[must_use]
    pub fn id(&self) -> &str {
        &self.id
    }

    /// When it expires.
    #[must_use]
    pub const fn expires_at(&self) -> Timestamp {
        self.expires_at
    }

    /// Whether it is bound to this.
    #[must_use]
    pub fn is_bound_to(&self, text: &str) -> bool {
        constant_time::verify_slices_are_equal(bound(&self.id, text).as_bytes(), self.bound.as_bytes()).is_ok()
    }
}

/// Under the token's own ID, so that two tokens don't tell that they are bound to the same.
fn bound(id: &str, text: &str) -> String {
    base64url::encode(digest(&SHA256, format!("{}\0{id}{text}", id.len()).as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::{Algorithm, Secret, SigningKey};

    #[test]
    fn a_token_is_for_one_purpose_and_bound_to_one_thing() {
        let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a key");
        let tokens = PurposeTokens::new("https://id.skarnhill.test", key);
        let now = Timestamp::from_secs(1_700_000_000);
        let purpose = Purpose { name: "reset-password", subject: "obs-0017", bound_to: "hash-1" };
        let token = tokens.token(purpose, "t1", Lifetime::minutes(15), now).expect("a token");
        let shown = tokens.check(&token, "reset-password", now).expect("it is good");
        assert_eq!((shown.subject(), shown.id()), ("obs-0017", "t1"));
        assert!(shown.is_bound_to("hash-1") && !shown.is_bound_to("hash-2") && !shown.is_bound_to(""));
        assert!(tokens.check(&token, "confirm-address", now).expect_err("another purpose").is_none());
        let late = now.after(std::time::Duration::from_secs(16 * 60));
        let finding = tokens.check(&token, "reset-password", late).expect_err("late").expect("a finding");
        assert_eq!(finding.check.code(), "expired");
    }
}
