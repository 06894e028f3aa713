//! Tokens that were seen before: found only byte for byte, checked against time at each use, bounded, forgotten.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use proptest::prelude::*;
use serde_json::{Value, json};
use vorsel::{
    AccessDraft, Algorithm, Checker, Expectations, Issuer, KeySet, KeyTimes, Keyring, Lifetime, LiveKeySet,
    LiveKeyring, NoOwn, Object, Secret, SigningKey, Timestamp, Verifier, base64url,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

fn keys() -> LiveKeyring {
    let secret = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    Keyring::new(secret.named("hill"), KeyTimes::default(), NOW).into()
}

fn expectations() -> Expectations {
    Expectations::access(ISSUER, AUDIENCE).skew(Duration::ZERO).expect("no skew")
}

fn token(keys: &LiveKeyring, id: &str, own: Value) -> String {
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5)).own(own);
    Issuer::new(ISSUER, Keyring::clone(&keys.current())).access(&draft, id, NOW).expect("a token")
}

/// Whether checking needs no memory, as only a token that is remembered does.
fn is_remembered<C: serde::de::DeserializeOwned>(checker: &Checker<C>, token: &str) -> bool {
    let mut accepted = false;
    let used = allocation_counter::measure(|| accepted = checker.check(token, NOW).is_ok());
    accepted && used.count_total == 0
}

#[test]
fn a_token_is_remembered_and_its_times_are_checked_at_each_use() {
    let keys = keys();
    let checker = Checker::<NoOwn>::new(keys.clone(), expectations());
    let token = token(&keys, "t1", json!({}));
    let first = checker.check(&token, NOW).expect("accepted");
    assert!(is_remembered(&checker, &token));
    assert_eq!(checker.check(&token, NOW).expect("accepted"), first);
    for (seconds, code) in [(299, None), (300, Some("expired")), (299, None), (-1, Some("not-yet-valid")), (0, None)] {
        let at = Timestamp::from_secs(NOW.as_secs() + seconds);
        let seen = checker.check(&token, at);
        let full = Verifier::new(keys.current().key_set(), expectations()).check(&token, at);
        assert_eq!(seen.as_deref().ok(), full.as_ref().ok());
        assert_eq!(seen.as_ref().err(), full.as_ref().err(), "the same finding as the full check gives");
        assert_eq!(seen.err().map(|finding| finding.check.code()), code, "{seconds}");
    }
}

#[test]
fn a_look_alike_is_not_taken_for_a_token_that_was_seen() {
    let keys = keys();
    let checker = Checker::<Object>::new(keys.clone(), expectations());
    let token = token(&keys, "t1", json!({ "training": 2 }));
    checker.check(&token, NOW).expect("accepted");
    let parts: Vec<_> = token.split('.').collect();
    let payload = String::from_utf8(base64url::decode(parts[1]).expect("base64url")).expect("UTF-8");
    let promoted = base64url::encode(payload.replace("\"training\":2", "\"training\":9"));
    let signature = parts[2];
    for other in [
        format!("{}.{promoted}.{signature}", parts[0]),
        format!("{}.{}.{signature}", base64url::encode(r#"{"alg":"none"}"#), parts[1]),
        format!("{token}="),
        format!("{token} "),
        token[1..].to_owned(),
        signature.to_owned(),
        String::new(),
    ] {
        checker.check(&other, NOW).expect_err("another token");
    }
    assert!(is_remembered(&checker, &token), "and the real one is still there");
}

#[test]
fn everything_is_forgotten_when_a_key_is_compromised() {
    let keys = keys();
    let checker = Checker::<NoOwn>::new(keys.clone(), expectations());
    let token = token(&keys, "t1", json!({}));
    checker.check(&token, NOW).expect("accepted");
    keys.change(|ring| ring.compromise("hill", NOW)).expect("compromised");
    assert_eq!(checker.check(&token, NOW).expect_err("refused").check.code(), "unknown-key");
}

/// A check that is under way while the keys are replaced may still go by the old ones; what it has accepted counts for nothing after.
#[test]
fn what_is_accepted_while_the_keys_are_replaced_is_not_remembered_beyond() {
    let ring = keys();
    let (with, without) = (ring.current().key_set(), KeySet::new([]));
    let keys = LiveKeySet::new(with.clone());
    let checker = Checker::<NoOwn>::new(keys.clone(), expectations());
    let token = token(&ring, "t1", json!({}));
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                while !is_over.load(Ordering::Relaxed) {
                    let _ = checker.check(&token, NOW);
                }
            });
        }
        let mut wrong = 0;
        for _ in 0..5_000 {
            keys.set(with.clone());
            wrong += usize::from(checker.check(&token, NOW).is_err());
            keys.set(without.clone());
            wrong += usize::from(checker.check(&token, NOW).is_ok());
        }
        is_over.store(true, Ordering::Relaxed);
        assert_eq!(wrong, 0);
    });
}

#[test]
fn with_room_for_none_each_token_is_checked_in_full() {
    let keys = keys();
    let checker = Checker::<NoOwn>::with_room(keys.clone(), expectations(), 0);
    let token = token(&keys, "t1", json!({}));
    checker.check(&token, NOW).expect("accepted");
    assert!(!is_remembered(&checker, &token));
}

#[test]
fn a_token_in_use_stays_when_there_is_no_room_for_all() {
    let keys = keys();
    let checker = Checker::<NoOwn>::with_room(keys.clone(), expectations(), 64);
    let busy = token(&keys, "busy", json!({}));
    for index in 0..500 {
        checker.check(&busy, NOW).expect("accepted");
        checker.check(token(&keys, &format!("t{index}"), json!({})), NOW).expect("accepted");
    }
    assert!(is_remembered(&checker, &busy));
}

/// The bound in the documentation, against tokens whose claims take as much more memory than their bytes as JSON can.
#[test]
fn the_memory_bound_holds_whatever_the_tokens_are() {
    const ROOM: usize = 64;
    let nested = |count: usize| Value::Array(vec![json!([]); count]);
    let objects = |count: usize| Value::Array(vec![json!({ "a": 0 }); count]);
    let members = |count: usize| (0..count).map(|index| (format!("c{index}"), json!(index))).collect::<Value>();
    for (what, own, kept) in [
        ("plain", json!({ "training": 2 }), true),
        ("arrays", json!({ "a": nested(20) }), true),
        ("many arrays", json!({ "a": nested(2_000) }), false),
        ("objects", json!({ "a": objects(3) }), true),
        ("many objects", json!({ "a": objects(500) }), false),
        ("members", members(12), true),
        ("many members", members(500), false),
        ("text", json!({ "a": "x".repeat(500) }), true),
        ("much text", json!({ "a": "x".repeat(5_000) }), false),
    ] {
        let keys = keys();
        let tokens: Vec<_> = (0..4 * ROOM).map(|index| token(&keys, &format!("t{index}"), own.clone())).collect();
        let mut checker = None;
        let used = allocation_counter::measure(|| {
            let it = Checker::<NoOwn>::with_room(keys.clone(), expectations(), ROOM);
            tokens.iter().for_each(|token| drop(it.check(token, NOW).expect("accepted")));
            checker = Some(it);
        });
        let bound = ROOM * Checker::<NoOwn>::LARGEST_REMEMBERED;
        let held = usize::try_from(used.bytes_current).expect("more was taken than given back");
        assert!(held <= bound, "{what}: {held} bytes of {bound}");
        let newest = tokens.last().expect("a token");
        assert_eq!(is_remembered(checker.as_ref().expect("a checker"), newest), kept, "{what}");
    }
}

proptest! {
    /// With a memory or without one, at any time, in any order: the verdict is the verifier's.
    #[test]
    fn a_checker_says_what_its_verifier_says(
        uses in proptest::collection::vec((0..12_usize, -10..400_i64, proptest::bool::weighted(0.1)), 1..80),
    ) {
        let keys = keys();
        let checker = Checker::<NoOwn>::with_room(keys.clone(), expectations(), 8);
        let tokens: Vec<_> = (0..12).map(|index| token(&keys, &format!("t{index}"), json!({}))).collect();
        for (index, seconds, altered) in uses {
            let mut token = tokens[index].clone();
            if altered {
                token.truncate(token.len() - 1);
            }
            let at = Timestamp::from_secs(NOW.as_secs() + seconds);
            let full = Verifier::new(keys.current().key_set(), expectations()).check(&token, at);
            let seen = checker.check(&token, at);
            prop_assert_eq!(seen.as_deref().ok(), full.as_ref().ok());
            prop_assert_eq!(seen.as_ref().err(), full.as_ref().err());
        }
    }
}
