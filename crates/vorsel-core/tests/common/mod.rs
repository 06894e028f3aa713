//! Callers for tests: real tokens, really checked.

use serde_json::Value;
use vorsel_core::{
    AccessDraft, Algorithm, Checked, Expectations, Issuer, KeySet, Lifetime, NoOwn, Scopes, Secret, SigningKey,
    Timestamp, Verifier,
};

/// A caller whose token was issued and checked.
pub(crate) fn caller(subject: &str, roles: &[&str], scope: &str, own: Value) -> Checked<NoOwn> {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("issuer", "audience"));
    let draft = AccessDraft::new(subject, "audience", "desk", Lifetime::minutes(5))
        .roles(roles.iter().copied())
        .scopes(Scopes::parse(scope).expect("scopes"))
        .own(own);
    let now = Timestamp::from_secs(1_700_000_000);
    let token = Issuer::new("issuer", key).access(&draft, "t1", now).expect("a token");
    verifier.check(token, now).expect("an accepted token")
}
