//! A token of usual size and what is done with it.

use std::hint::black_box;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use vorsel::{
    AccessDraft, Algorithm, Checker, Expectations, Issuer, KeySet, Lifetime, Scopes, SigningKey, Timestamp, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

#[derive(Serialize, Deserialize)]
struct Staff {
    training: u8,
    shift: String,
    confirmed: bool,
}

/// What is measured of one algorithm.
#[allow(dead_code, reason = "each benchmark uses its part")]
pub(crate) struct Case {
    pub(crate) key: Arc<SigningKey>,
    pub(crate) token: String,
    checker: Checker<Staff>,
    verifier: Verifier,
    issuer: Issuer,
}

impl Case {
    pub(crate) fn of(algorithm: Algorithm) -> Self {
        let key = Arc::new(SigningKey::generate(algorithm).expect("a key"));
        let expectations = Expectations::access(ISSUER, AUDIENCE);
        let verifier = Verifier::new(KeySet::new([key.verifying_key()]), expectations);
        let issuer = Issuer::new(ISSUER, key.clone());
        let token = issuer.access(&draft(), "41lfCSBRw0OIP93aaoIujg", NOW).expect("a token");
        Self { key, token, checker: verifier.clone().into(), verifier, issuer }
    }

    pub(crate) fn check(&self) {
        drop(black_box(self.verifier.check_as::<Staff>(black_box(&self.token), NOW).expect("accepted")));
    }

    pub(crate) fn check_seen(&self) {
        drop(black_box(self.checker.check(black_box(&self.token), NOW).expect("accepted")));
    }

    pub(crate) fn issue(&self) {
        drop(black_box(self.issuer.access(black_box(&draft()), "41lfCSBRw0OIP93aaoIujg", NOW).expect("a token")));
    }
}

/// A token of usual size: two scopes, one role, a session and three own claims, about 600 bytes.
fn draft() -> AccessDraft<Staff> {
    AccessDraft::of("obs-0017")
        .audience(AUDIENCE)
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(["observer"])
        .scopes(Scopes::parse("exposures:read exposures:queue").expect("scopes"))
        .session("m3QF1n9mXk2hZ8cUo4r5sA", NOW)
        .own(Staff { training: 2, shift: "night".to_owned(), confirmed: true })
}
