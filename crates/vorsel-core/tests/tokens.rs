//! What issuing and checking promise: keys stay with their algorithm, kinds apart, edges where they belong. Tokens that are
//! wrong in every known way are in `hostile`, those that nobody thought of in `generated_tokens`.

use std::time::Duration;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair, RSA_PSS_SHA512, RsaKeyPair,
    RsaPssSaltLength, RsaSignatureEncoding,
};
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
