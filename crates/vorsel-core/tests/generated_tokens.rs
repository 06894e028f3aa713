//! Generated, bent and broken tokens: whatever comes, the fast path and the full list never disagree, and nothing panics.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::{Algorithm, Expectations, KeySet, Kind, Verifier};

mod common;
use common::{AUDIENCE, ISSUER, NOW, claims, codes, header, secret, signed, verifier};

/// JSON of members that may be good, bad, there twice or not at all.
fn members(names: &'static [&'static str], values: &'static [&'static str]) -> impl Strategy<Value = String> {
    let member = (proptest::sample::select(names), proptest::sample::select(values));
    proptest::collection::vec(member, 0..10).prop_map(|members| {
        let members: Vec<_> = members.iter().map(|(name, value)| format!("\"{name}\":{value}")).collect();
        format!("{{{}}}", members.join(","))
    })
}

const HEADER_NAMES: &[&str] = &["alg", "typ", "kid", "crit", "jwk", "\\u0061lg"];
const HEADER_VALUES: &[&str] =
    &["\"HS256\"", "\"none\"", "\"at+jwt\"", "\"JWT\"", "\"hill\"", "\"valley\"", "null", "[\"alg\"]", "7"];
const CLAIM_NAMES: &[&str] =
    &["iss", "aud", "sub", "exp", "nbf", "iat", "jti", "client_id", "scope", "roles", "sid", "cnf", "training"];
const CLAIM_VALUES: &[&str] = &[
    "\"https://id.skarnhill.test\"",
    "\"https://api.skarnhill.test\"",
    "\"t1\"",
    "1699999990",
    "1700000000",
    "1700000100.5",
    "null",
    "[]",
    "[\"observer\"]",
    "{}",
    "-1e300",
    "\"a b\"",
    "\"\\u006f\"",
];

/// A good token in which members were set to other values; mostly it stays readable.
fn bent() -> impl Strategy<Value = String> {
    let bend = |names: &'static [&'static str], values: &'static [&'static str]| {
        let change = (proptest::sample::select(names), proptest::sample::select(values));
        proptest::collection::vec(change, 0..3)
    };
    (bend(HEADER_NAMES, HEADER_VALUES), bend(CLAIM_NAMES, CLAIM_VALUES)).prop_map(|(in_header, in_claims)| {
        let apply = |mut object: serde_json::Value, changes: Vec<(&str, &str)>| {
            for (name, value) in changes {
                object[name] = serde_json::from_str(value).expect("JSON");
            }
            object.to_string()
        };
        signed(apply(header(), in_header), apply(claims(), in_claims))
    })
}

fn generated() -> impl Strategy<Value = String> {
    let made = (members(HEADER_NAMES, HEADER_VALUES), members(CLAIM_NAMES, CLAIM_VALUES));
    prop_oneof![4 => bent(), 1 => made.prop_map(|(header, claims)| signed(header, claims))]
}

/// What happens to tokens on the way: cut, spliced, repeated, decoded and put together again.
#[derive(Clone, Debug)]
enum Mutation {
    Cut(usize),
    Remove(usize),
    Insert(usize, u8),
    Swap(usize, usize),
    RepeatSegment(usize),
}

fn mutation() -> impl Strategy<Value = Mutation> {
    let at = 0..700_usize;
    prop_oneof![
        at.clone().prop_map(Mutation::Cut),
        at.clone().prop_map(Mutation::Remove),
        (at.clone(), any::<u8>()).prop_map(|(at, byte)| Mutation::Insert(at, byte)),
        (at.clone(), at).prop_map(|(one, other)| Mutation::Swap(one, other)),
        (0..4_usize).prop_map(Mutation::RepeatSegment),
    ]
}

fn mutated(token: &str, mutations: &[Mutation]) -> Vec<u8> {
    let mut bytes = token.as_bytes().to_vec();
    for mutation in mutations.iter().filter(|_| !token.is_empty()) {
        let length = bytes.len().max(1);
        match *mutation {
            Mutation::Cut(at) => bytes.truncate(at),
            Mutation::Remove(at) if !bytes.is_empty() => drop(bytes.remove(at % length)),
            Mutation::Insert(at, byte) => bytes.insert(at % length, byte),
            Mutation::Swap(one, other) if !bytes.is_empty() => bytes.swap(one % length, other % length),
            Mutation::RepeatSegment(which) => {
                let segments: Vec<_> = bytes.split(|byte| *byte == b'.').map(<[u8]>::to_vec).collect();
                let again = segments[which % segments.len()].clone();
                bytes.push(b'.');
                bytes.extend(again);
            }
            Mutation::Remove(_) | Mutation::Swap(..) => {}
        }
    }
    bytes
}

/// Verifiers that differ in each of their expectations.
fn any_verifier() -> impl Strategy<Value = Verifier> {
    let kind = proptest::sample::select(vec![
        Expectations::access(ISSUER, AUDIENCE),
        Expectations::plain(ISSUER),
        Expectations::refresh(ISSUER),
        Expectations::danger_from_anyone_for_anyone(Kind::Access),
    ]);
    (kind, 0..20_u64, any::<bool>(), any::<bool>(), any::<bool>()).prop_map(
        |(expectations, skew, own, narrow, keyless)| {
            let mut expectations = expectations.skew(Duration::from_secs(skew)).expect("a skew");
            if own {
                expectations = expectations.require("training");
            }
            if narrow {
                expectations = expectations.algorithms([Algorithm::Hs256]);
            }
            let keys = if keyless && narrow { KeySet::default() } else { KeySet::new([secret().verifying_key()]) };
            Verifier::new(keys, expectations)
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    /// The fast path and the full list: the same verdict, the same first failure, the same claims (in `codes`), for any
    /// token, any verifier and any moment.
    #[test]
    fn both_paths_give_one_verdict(
        token in generated(),
        mutations in proptest::collection::vec(mutation(), 0..3),
        verifier in any_verifier(),
        seconds in 1_699_999_900..1_700_000_200_i64,
    ) {
        let now = vorsel_core::Timestamp::from_secs(seconds);
        let _ = codes(&verifier, &token, now);
        let _ = codes(&verifier, mutated(&token, &mutations), now);
    }
}

proptest! {
    /// Any token with any one byte changed: never accepted, never a panic, and both paths agree (in `codes`).
    #[test]
    fn one_changed_byte_is_never_accepted(at in 0_usize..420, byte: u8) {
        let token = signed(header().to_string(), claims().to_string());
        let mut changed = token.into_bytes();
        let at = at % changed.len();
        prop_assume!(changed[at] != byte);
        changed[at] = byte;
        prop_assert!(!codes(&verifier(), &changed, NOW).is_empty());
    }

    #[test]
    fn any_bytes_are_refused_without_a_panic(bytes: Vec<u8>) {
        prop_assert!(!codes(&verifier(), &bytes, NOW).is_empty());
    }

    #[test]
    fn any_signed_payload_is_read_without_a_panic(payload in "[{}\\[\\]\",:a-z0-9.eE+-]{0,60}") {
        prop_assert!(!codes(&verifier(), signed(header().to_string(), &payload), NOW).is_empty());
    }
}

/// The property above would say little if its tokens were all refused for the same reason.
#[test]
fn generated_tokens_reach_every_finding() {
    use proptest::strategy::ValueTree;
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    let mut reached = std::collections::BTreeMap::<_, u32>::new();
    for _ in 0..6_000 {
        let sample = (generated(), any_verifier()).new_tree(&mut runner).expect("a token").current();
        let codes = codes(&sample.1, &sample.0, NOW);
        let all = if codes.is_empty() { vec!["accepted"] } else { codes };
        all.into_iter().for_each(|code| *reached.entry(code).or_default() += 1);
    }
    for code in [
        "accepted",
        "malformed",
        "critical-not-understood",
        "wrong-kind",
        "algorithm-not-allowed",
        "unknown-key",
        "missing-claim",
        "wrong-issuer",
        "wrong-audience",
        "expired",
        "not-yet-valid",
    ] {
        assert!(reached.get(code).is_some_and(|count| *count >= 10), "{code}: {reached:?}");
    }
}
