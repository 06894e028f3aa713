//! What issuing and checking promise: keys stay with their algorithm, kinds apart, edges where they belong; and the fast
//! path and the full list never disagree. Tokens that are wrong in every known way are in `hostile`.

use std::time::Duration;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair, RSA_PSS_SHA512, RsaKeyPair,
    RsaPssSaltLength, RsaSignatureEncoding,
};
use proptest::prelude::*;
use serde_json::json;
use vorsel_core::{
    AccessDraft, Algorithm, Expectations, IssueError, Issuer, KeySet, Kind, Lifetime, NoOwn, Object, Proven, Scopes,
    SigningKey, Verifier, base64url,
};

mod common;
use common::{AUDIENCE, ISSUER, NOW, claims, codes, header, secret, signed, verifier, with, without};

/// [RFC 7518 section 3.5](https://www.rfc-editor.org/rfc/rfc7518#section-3.5) fixes the salt's length, and section 3.4
/// the form of an ECDSA signature.
#[test]
fn signatures_in_another_form_are_refused() {
    const SHORT_SALT: RsaSignatureEncoding = RSA_PSS_SHA512.with_pss_salt_length(RsaPssSaltLength::Custom(32));
    let input = |alg: &str| {
        let header = json!({ "alg": alg, "typ": "at+jwt" }).to_string();
        format!("{}.{}", base64url::encode(header), base64url::encode(claims().to_string()))
    };
    let random = SystemRandom::new();
    let rsa = RsaKeyPair::generate(KeySize::Rsa2048).expect("a key");
    let n = base64url::encode(rsa.public_key().modulus().big_endian_without_leading_zero());
    let jwk = json!({ "kty": "RSA", "alg": "PS512", "n": n, "e": "AQAB" }).to_string();
    let mut cases = Vec::new();
    for (encoding, codes) in [(&RSA_PSS_SHA512, &[][..]), (&SHORT_SALT, &["signature-mismatch"])] {
        let mut signature = vec![0; rsa.public_modulus_len()];
        rsa.sign(encoding, &random, input("PS512").as_bytes(), &mut signature).expect("a signature");
        cases.push((jwk.clone(), format!("{}.{}", input("PS512"), base64url::encode(signature)), codes));
    }
    for (signing, codes) in
        [(&ECDSA_P256_SHA256_FIXED_SIGNING, &[][..]), (&ECDSA_P256_SHA256_ASN1_SIGNING, &["signature-mismatch"])]
    {
        let pair = EcdsaKeyPair::generate(signing).expect("a key");
        let (x, y) = pair.public_key().as_ref()[1..].split_at(32);
        let jwk = json!({ "kty": "EC", "crv": "P-256", "x": base64url::encode(x), "y": base64url::encode(y) });
        let signature = pair.sign(&random, input("ES256").as_bytes()).expect("a signature");
        cases.push((jwk.to_string(), format!("{}.{}", input("ES256"), base64url::encode(signature)), codes));
    }
    for (jwk, token, expected) in cases {
        let verifier = Verifier::new(KeySet::read(&jwk).expect("a key"), Expectations::access(ISSUER, AUDIENCE));
        assert_eq!(codes(&verifier, &token, NOW), expected);
    }
}

#[test]
fn a_key_checks_its_own_algorithm_and_no_other() {
    let keys = Algorithm::ALL.map(|algorithm| SigningKey::generate(algorithm).expect("a key"));
    let verifier =
        Verifier::new(KeySet::new(keys.iter().map(SigningKey::verifying_key)), Expectations::access(ISSUER, AUDIENCE));
    for key in keys {
        let (algorithm, kid) = (key.algorithm(), key.key_id().to_owned());
        let token = issue(Issuer::new(ISSUER, key));
        assert_eq!(codes(&verifier, &token, NOW), [""; 0], "{algorithm}");
        for other in Algorithm::ALL.into_iter().filter(|other| *other != algorithm) {
            let header = json!({ "alg": other.name(), "typ": "at+jwt", "kid": kid }).to_string();
            let (_, rest) = token.split_once('.').expect("a token");
            let renamed = format!("{}.{rest}", base64url::encode(header));
            assert_eq!(codes(&verifier, &renamed, NOW), ["algorithm-not-allowed"], "{algorithm} as {other}");
        }
    }
}

#[test]
fn kinds_are_never_mixed_up() {
    for (expectations, kind) in [
        (Expectations::access(ISSUER, AUDIENCE), Kind::Access),
        (Expectations::refresh(ISSUER).audience(AUDIENCE), Kind::Refresh),
        (Expectations::one_purpose(ISSUER).audience(AUDIENCE), Kind::OnePurpose),
        (Expectations::security_event(ISSUER, AUDIENCE), Kind::SecurityEvent),
        (Expectations::plain(ISSUER).audience(AUDIENCE), Kind::Plain),
    ] {
        let verifier = Verifier::new(KeySet::new([secret().verifying_key()]), expectations);
        for (typ, of) in [
            ("at+jwt", Kind::Access),
            ("refresh+jwt", Kind::Refresh),
            ("once+jwt", Kind::OnePurpose),
            ("secevent+jwt", Kind::SecurityEvent),
            ("JWT", Kind::Plain),
        ] {
            let mut told = claims();
            told["events"] = json!({});
            let token = signed(with(header(), "typ", json!(typ)), with(told, "sid", json!("s")));
            let expected: &[&str] = if kind == of { &[] } else { &["wrong-kind"] };
            assert_eq!(codes(&verifier, &token, NOW), expected, "{typ} as {kind}");
        }
    }
}

#[test]
fn a_security_event_has_no_end_and_an_audience() {
    let issuer = Issuer::new(ISSUER, secret());
    let token = issuer.security_event("archive", "e-1", &json!({ "urn:x": { "a": 1 } }), NOW).expect("a token");
    let check = |audience: &str, at| {
        let verifier =
            Verifier::new(KeySet::new([secret().verifying_key()]), Expectations::security_event(ISSUER, audience));
        codes(&verifier, &token, at)
    };
    assert_eq!(check("archive", NOW), [""; 0]);
    assert_eq!(check("archive", NOW.after(Duration::from_secs(1_000_000_000))), [""; 0], "it does not expire");
    assert_eq!(check("archive", NOW.before(Duration::from_secs(300))), [""; 0], "its clock may be ahead");
    assert_eq!(check("archive", NOW.before(Duration::from_secs(302))), ["not-yet-valid"]);
    assert_eq!(check("dome-controller", NOW), ["wrong-audience"]);
    let large = json!({ "urn:x": "x".repeat(Issuer::LARGEST_SECURITY_EVENT) });
    assert!(matches!(issuer.security_event("archive", "e-2", &large, NOW), Err(IssueError::TooLarge { .. })));
    assert!(matches!(issuer.security_event("", "e-3", &json!({}), NOW), Err(IssueError::Empty { claim: "aud" })));
}

#[test]
fn a_token_that_is_too_large_is_refused_before_it_is_signed() {
    for algorithm in Algorithm::ALL {
        let issuer = Issuer::new(ISSUER, SigningKey::generate(algorithm).expect("a key"));
        let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5));
        let size = issuer.access(&draft, "t1", NOW).expect("a token").len();
        let fits = issuer.clone().size_limit(size).access(&draft, "t1", NOW).expect("a token of the largest size");
        assert_eq!(fits.len(), size, "{algorithm}");
        let error = issuer.size_limit(size - 1).prepare(&draft, "t1", NOW).expect_err("one byte too many");
        assert!(
            matches!(error, IssueError::TooLarge { limit, found } if (limit, found) == (size - 1, size)),
            "{error}"
        );
    }
}

#[test]
fn skew_moves_each_edge_in_the_token_s_favour_and_has_a_ceiling() {
    let skew = |seconds| Expectations::access(ISSUER, AUDIENCE).skew(Duration::from_secs(seconds));
    assert!(skew(300).is_ok());
    assert_eq!(skew(301).expect_err("too much").to_string(), "expected a clock skew of at most 300 s, but found 301 s");
    let verifier = Verifier::new(KeySet::new([secret().verifying_key()]), skew(10).expect("a skew"));
    let token = |claims: String| signed(header().to_string(), claims);
    for (claims, fine) in [
        (with(claims(), "exp", json!(1_699_999_990.5)), true),
        (with(claims(), "exp", json!(1_699_999_990)), false),
        (with(claims(), "nbf", json!(1_700_000_010)), true),
        (with(claims(), "nbf", json!(1_700_000_010.5)), false),
        (with(claims(), "iat", json!(1_700_000_010)), true),
        (with(claims(), "iat", json!(1_700_000_011)), false),
    ] {
        assert_eq!(codes(&verifier, token(claims.clone()), NOW).is_empty(), fine, "{claims}");
    }
}

#[test]
fn an_issuer_whose_clock_is_ahead_is_allowed_for_and_nothing_lives_longer_by_it() {
    let ahead = |seconds| Expectations::access(ISSUER, AUDIENCE).issuer_ahead(Duration::from_secs(seconds));
    assert!(ahead(300).is_ok() && ahead(301).is_err());
    let usual = Expectations::DEFAULT_SKEW.as_secs();
    for (allowed, furthest) in [(0, usual), (usual - 1, usual), (30, 30)] {
        let verifier = Verifier::new(KeySet::new([secret().verifying_key()]), ahead(allowed).expect("a difference"));
        for (claim, at, fine) in [
            ("iat", 1_700_000_000 + furthest, true),
            ("iat", 1_700_000_001 + furthest, false),
            ("nbf", 1_700_000_000 + furthest, true),
            ("nbf", 1_700_000_001 + furthest, false),
            ("auth_time", 1_700_000_000 + furthest, true),
            ("auth_time", 1_700_000_001 + furthest, false),
            ("exp", 1_700_000_001 - usual, true),
            ("exp", 1_700_000_000 - usual, false),
        ] {
            let token = signed(header().to_string(), with(claims(), claim, json!(at)));
            assert_eq!(codes(&verifier, token, NOW).is_empty(), fine, "{allowed} s: {claim} {at}");
        }
    }
}

/// A token that is bound to a key is worth nothing to whoever has only the token
/// ([RFC 7800 section 3.1](https://www.rfc-editor.org/rfc/rfc7800#section-3.1)); a confirmation that is not understood is not
/// proven.
#[test]
fn a_bound_token_is_refused_without_the_proof_of_its_own_key() {
    let verifier = verifier();
    let key = Proven::Key("0ZcOCORZNYy");
    for (cnf, proven, holds) in [
        (json!({ "jkt": "0ZcOCORZNYy" }), key, true),
        (json!({ "jkt": "0ZcOCORZNYy" }), Proven::Nothing, false),
        (json!({ "jkt": "0ZcOCORZNYy" }), Proven::Key("0ZcOCORZNYyy"), false),
        (json!({ "jkt": "" }), Proven::Key(""), true),
        (json!({ "jkt": 7 }), key, false),
        (json!({ "jkt": "0ZcOCORZNYy", "x5t#S256": "bwcK0esc3AC" }), key, false),
        (json!({ "x5t#S256": "0ZcOCORZNYy" }), key, false),
        (json!({}), key, false),
        (json!({}), Proven::Nothing, false),
    ] {
        let token = signed(header().to_string(), with(claims(), "cnf", cnf.clone()));
        let checked = verifier.check_proven::<NoOwn>(&token, proven, NOW);
        assert_eq!(
            checked.as_ref().err().map(|finding| finding.check.code()),
            (!holds).then_some("unproven-key"),
            "{cnf}"
        );
        let Ok(checked) = checked else { continue };
        assert!(verifier.check_again(&checked, proven, NOW).is_ok());
        let error = verifier.check_again(&checked, Proven::Nothing, NOW).expect_err("nothing is proven now");
        assert_eq!(error.check.code(), "unproven-key", "a token that was seen before is no proof");
    }
    // Whoever proves a key may bring a token that is bound to none.
    let plain = signed(header().to_string(), claims().to_string());
    assert!(verifier.check_proven::<NoOwn>(plain, key, NOW).is_ok());
    let error = verifier
        .check(signed(header().to_string(), with(claims(), "cnf", json!({ "jkt": "0ZcOCORZNYy" }))), NOW)
        .expect_err("bound");
    assert_eq!(
        error.to_string(),
        "unproven-key: expected a proof of the key \"0ZcOCORZNYy\" that the token is bound to, but found none \
         (RFC 7800 section 3.1)"
    );
}

#[test]
fn own_claims_that_do_not_fit_name_the_member_the_wanted_and_the_found() {
    #[derive(Debug, serde::Deserialize)]
    #[expect(dead_code, reason = "only their types matter")]
    struct Staff {
        training: u8,
        #[serde(default)]
        nested: Option<Nested>,
    }
    #[derive(Debug, serde::Deserialize)]
    #[expect(dead_code, reason = "only their types matter")]
    struct Nested {
        lamps: Vec<u8>,
    }
    for (claims, expected) in [
        (claims().to_string(), None),
        (with(claims(), "training", json!("2")), Some("invalid type: string \"2\", expected u8 in \"training\"")),
        (with(claims(), "training", json!(300)), Some("invalid value: integer `300`, expected u8 in \"training\"")),
        (without(claims(), "training"), Some("missing field `training`")),
        (
            with(claims(), "nested", json!({ "lamps": [1, true] })),
            Some("invalid type: boolean `true`, expected u8 in \"nested.lamps[1]\""),
        ),
    ] {
        let token = signed(header().to_string(), &claims);
        let found =
            verifier().check_as::<Staff>(&token, NOW).err().map(|finding| (finding.check.code(), finding.found));
        // The words are serde_json's, and it has fewer of them with `arbitrary_precision`; the finding is the same.
        let expected = match expected {
            Some(words) if words.contains("300") && is_short_of_words() => Some("invalid number in \"training\""),
            other => other,
        };
        assert_eq!(found, expected.map(|found| ("misfit-claim", found.to_owned())), "{claims}");
    }
}

/// Whether some crate has switched on `arbitrary_precision`.
fn is_short_of_words() -> bool {
    serde_json::from_str::<serde_json::Value>("1.50").is_ok_and(|number| number.to_string().len() == 4)
}

#[test]
fn a_verifier_without_keys_accepts_nothing_and_says_so() {
    let verifier = Verifier::new(KeySet::default(), Expectations::access(ISSUER, AUDIENCE));
    let finding = verifier.check(signed(header().to_string(), claims().to_string()), NOW).expect_err("refused");
    assert_eq!(
        finding.to_string(),
        "unknown-key: expected a key to check with, but found none set up (RFC 7515 section 4.1.4)"
    );
}

#[test]
fn registered_names_cannot_be_used_for_own_claims() {
    let issuer = Issuer::new(ISSUER, secret());
    for (own, fine) in [
        (json!({ "training": 2 }), true),
        (json!({}), true),
        (json!({ "exp": 9_999_999_999_u64 }), false),
        (json!({ "roles": ["director"] }), false),
        (json!({ "sub": "dir-0001" }), false),
        (json!([1]), false),
        (json!("x"), false),
    ] {
        let draft = AccessDraft::of("obs-0017")
            .audience(AUDIENCE)
            .client("desk")
            .lasting(Lifetime::minutes(5))
            .own(own.clone());
        assert_eq!(issuer.access(&draft, "t1", NOW).is_ok(), fine, "{own}");
    }
}

fn issue(issuer: Issuer) -> String {
    let draft = AccessDraft::of("obs-0017")
        .audience(AUDIENCE)
        .client("desk")
        .lasting(Lifetime::minutes(5))
        .roles(["observer"])
        .scopes(Scopes::parse("exposures:read logs:read").expect("scopes"))
        .session("s1", NOW)
        .own(json!({ "training": 2 }));
    issuer.access(&draft, "t1", NOW).expect("a token")
}

#[test]
fn what_is_issued_is_read_back() {
    for algorithm in Algorithm::ALL {
        let key = SigningKey::generate(algorithm).expect("a key");
        let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, AUDIENCE));
        let checked = verifier.check_as::<Object>(issue(Issuer::new(ISSUER, key)), NOW).expect("an accepted token");
        let claims = checked.claims();
        assert_eq!((claims.issuer(), claims.subject(), claims.id()), (Some(ISSUER), Some("obs-0017"), Some("t1")));
        assert_eq!((claims.audience().collect(), claims.client_id()), (vec![AUDIENCE], Some("desk")));
        assert_eq!((claims.issued_at(), claims.expires_at()), (Some(NOW), Some(NOW.after(Duration::from_secs(300)))));
        assert_eq!((claims.roles().collect(), claims.session_id()), (vec!["observer"], Some("s1")));
        assert_eq!(
            (claims.scopes().collect(), claims.authenticated_at()),
            (vec!["exposures:read", "logs:read"], Some(NOW))
        );
        assert_eq!(checked.own()["training"], 2);
    }
}

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
