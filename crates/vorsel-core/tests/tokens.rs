//! Tokens that are wrong in every known way, each with the finding it must give; and the promise that the fast path and
//! the full list never disagree.

use std::time::Duration;

use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::rsa::KeySize;
use aws_lc_rs::signature::{
    ECDSA_P256_SHA256_ASN1_SIGNING, ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair, RSA_PSS_SHA512, RsaKeyPair,
    RsaPssSaltLength, RsaSignatureEncoding,
};
use proptest::prelude::*;
use serde_json::{Value, json};
use vorsel_core::{
    AccessDraft, Algorithm, Expectations, Issuer, KeySet, Kind, Lifetime, NoOwn, Object, Scopes, Secret, SigningKey,
    Timestamp, Verifier, base64url,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);

fn secret() -> SigningKey {
    SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret").with_key_id("hill")
}

fn verifier() -> Verifier {
    let expectations = Expectations::access(ISSUER, AUDIENCE).skew(Duration::ZERO).expect("no skew");
    Verifier::new(KeySet::new([secret().verifying_key()]), expectations)
}

fn header() -> Value {
    json!({ "alg": "HS256", "typ": "at+jwt", "kid": "hill" })
}

fn claims() -> Value {
    json!({
        "iss": ISSUER, "aud": AUDIENCE, "sub": "obs-0017", "client_id": "desk", "jti": "t1",
        "iat": 1_699_999_900, "exp": 1_700_000_100, "roles": ["observer"], "training": 2,
    })
}

/// Signs any two texts with the secret that the verifier trusts, as no issuer of ours would.
fn signed(header: impl AsRef<[u8]>, payload: impl AsRef<[u8]>) -> String {
    let input = format!("{}.{}", base64url::encode(header), base64url::encode(payload));
    let key: Vec<u8> = (0..32).collect();
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, &key);
    format!("{input}.{}", base64url::encode(aws_lc_rs::hmac::sign(&key, input.as_bytes())))
}

fn with(mut object: Value, member: &str, value: Value) -> String {
    object[member] = value;
    object.to_string()
}

fn without(mut object: Value, member: &str) -> String {
    object.as_object_mut().expect("an object").shift_remove(member);
    object.to_string()
}

/// The codes of the full list, after making sure that the fast path says the same.
fn codes(verifier: &Verifier, token: impl AsRef<[u8]>, now: Timestamp) -> Vec<&'static str> {
    let findings = verifier.examine::<Object>(&token, now);
    let failed: Vec<_> = findings.refused_for().collect();
    match verifier.check::<Object>(&token, now) {
        Ok(checked) => assert_eq!(findings.accepted(), Some(&checked)),
        Err(first) => {
            assert!(findings.accepted().is_none());
            assert_eq!(Some(&*first), failed.first().copied(), "the fast path found something else first");
        }
    }
    failed.iter().map(|finding| finding.check.code()).collect()
}

#[test]
fn headers_of_all_kinds_get_the_finding_they_deserve() {
    let good = claims().to_string();
    for (header, expected) in [
        (header().to_string(), &[][..]),
        (with(header(), "typ", json!("application/AT+JWT")), &[]),
        (with(header(), "jwk", json!({ "kty": "oct", "k": "AAAA" })), &[]),
        (with(header(), "jku", json!("https://elsewhere.test/keys")), &[]),
        (without(header(), "kid"), &[]),
        (with(header(), "alg", json!("none")), &["algorithm-not-allowed"]),
        (with(header(), "alg", json!("None")), &["algorithm-not-allowed"]),
        (with(header(), "alg", json!("")), &["algorithm-not-allowed"]),
        (with(header(), "alg", json!("hs256")), &["algorithm-not-allowed"]),
        (with(header(), "alg", json!("HS512")), &["algorithm-not-allowed"]),
        (with(header(), "alg", json!("ES256")), &["algorithm-not-allowed"]),
        (with(header(), "alg", Value::Null), &["malformed"]),
        (without(header(), "alg"), &["malformed"]),
        (with(header(), "kid", json!("valley")), &["unknown-key"]),
        (with(header(), "kid", json!("")), &["unknown-key"]),
        (with(header(), "kid", json!("../../hill")), &["unknown-key"]),
        (with(header(), "kid", json!(["hill"])), &["malformed"]),
        (with(header(), "typ", json!("JWT")), &["wrong-kind"]),
        (with(header(), "typ", json!("refresh+jwt")), &["wrong-kind"]),
        (without(header(), "typ"), &["wrong-kind"]),
        (with(header(), "typ", json!(1)), &["malformed"]),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["exp"],"exp":1}"#.to_owned(), &["critical-not-understood"]),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":["b64"],"b64":false}"#.to_owned(), &["critical-not-understood"]),
        (r#"{"alg":"HS256","typ":"at+jwt","crit":[]}"#.to_owned(), &["malformed"]),
        (r#"{"alg":"HS256","typ":"at+jwt","alg":"HS256"}"#.to_owned(), &["malformed"]),
        (r#"{"alg":"HS256","typ":"at+jwt"}}"#.to_owned(), &["malformed"]),
        ("\u{feff}{\"alg\":\"HS256\",\"typ\":\"at+jwt\"}".to_owned(), &["malformed"]),
        ("HS256".to_owned(), &["malformed"]),
        (String::new(), &["malformed"]),
    ] {
        assert_eq!(codes(&verifier(), signed(&header, &good), NOW), expected, "{header}");
    }
}

#[test]
fn claims_of_all_kinds_get_the_finding_they_deserve() {
    let deep = |levels: usize| {
        with(claims(), "deep", json!("nested"))
            .replace("\"nested\"", &format!("{}{}", "[".repeat(levels), "]".repeat(levels)))
    };
    let many = |count: usize, more: &str| {
        let members: String = (0..count).map(|index| format!("\"c{index}\":{index},")).collect();
        claims().to_string().replacen('{', &format!("{{{members}{more}"), 1)
    };
    for (claims, expected) in [
        (claims().to_string(), &[][..]),
        (with(claims(), "aud", json!(["https://lab.skarnhill.test", AUDIENCE])), &[]),
        (with(claims(), "exp", json!(1_700_000_000.5)), &[]),
        (with(claims(), "nbf", json!(1_700_000_000)), &[]),
        (deep(20), &[]),
        (with(claims(), "exp", json!(1_700_000_000)), &["expired"]),
        (with(claims(), "exp", json!(1_699_999_999.999_9)), &["expired"]),
        (with(claims(), "exp", json!(-1)), &["expired"]),
        (with(claims(), "exp", json!(0)), &["expired"]),
        (with(claims(), "exp", json!("1700000100")), &["malformed"]),
        (with(claims(), "exp", Value::Null), &["malformed"]),
        (with(claims(), "exp", json!([1_700_000_100])), &["malformed"]),
        (without(claims(), "exp"), &["missing-claim"]),
        (with(claims(), "nbf", json!(1_700_000_000.5)), &["not-yet-valid"]),
        (with(claims(), "nbf", json!("now")), &["malformed"]),
        (with(claims(), "iat", json!(1_700_000_001)), &["not-yet-valid"]),
        (without(claims(), "iat"), &["missing-claim"]),
        (with(claims(), "iss", json!("https://id.skarnhill.test/")), &["wrong-issuer"]),
        (with(claims(), "iss", json!("HTTPS://ID.SKARNHILL.TEST")), &["wrong-issuer"]),
        (with(claims(), "iss", json!([ISSUER])), &["malformed"]),
        (without(claims(), "iss"), &["missing-claim", "wrong-issuer"]),
        (with(claims(), "aud", json!("https://lab.skarnhill.test")), &["wrong-audience"]),
        (with(claims(), "aud", json!([])), &["wrong-audience"]),
        (with(claims(), "aud", json!("https://api.skarnhill.test.evil.test")), &["wrong-audience"]),
        (with(claims(), "aud", json!({ "0": AUDIENCE })), &["malformed"]),
        (without(claims(), "aud"), &["missing-claim", "wrong-audience"]),
        (without(claims(), "sub"), &["missing-claim"]),
        (without(claims(), "client_id"), &["missing-claim"]),
        (without(claims(), "jti"), &["missing-claim"]),
        (with(claims(), "sub", json!(17)), &["malformed"]),
        (with(claims(), "roles", json!("director")), &["malformed"]),
        (with(claims(), "scope", json!(["dome:move"])), &["malformed"]),
        (deep(4_000), &["malformed"]),
        (claims().to_string().replace("\"sub\"", "\"iss\""), &["malformed"]),
        (claims().to_string().replacen("{", "{\"training\":9,", 1), &["malformed"]),
        (many(100, ""), &[]),
        (many(100, "\"c7\":1,"), &["malformed"]),
        (format!("{} ", claims()), &[]),
        (format!("{}x", claims()), &["malformed"]),
        (format!("[{}]", claims()), &["malformed"]),
        ("null".to_owned(), &["malformed"]),
        (String::new(), &["malformed"]),
        (
            with(claims(), "aud", json!("x")).replace("1700000100", "1699999950").replace(ISSUER, "y"),
            &["wrong-issuer", "wrong-audience", "expired"],
        ),
    ] {
        if claims.len() < 4_000 {
            assert_eq!(codes(&verifier(), signed(header().to_string(), &claims), NOW), expected, "{claims}");
        } else {
            assert_eq!(codes(&verifier(), signed(header().to_string(), &claims), NOW), expected);
        }
    }
}

#[test]
fn segments_of_all_kinds_get_the_finding_they_deserve() {
    let token = signed(header().to_string(), claims().to_string());
    let (rest, signature) = token.rsplit_once('.').expect("a token");
    let with_signature = |signature: &str| format!("{rest}.{signature}");
    let loose_bits = |text: &str| {
        let last = text.chars().last().expect("a signature");
        let alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
        let next = alphabet.chars().nth(alphabet.find(last).expect("base64url") + 1).expect("room for a loose bit");
        format!("{}{next}", &text[..text.len() - 1])
    };
    for (token, expected) in [
        (token.clone(), &[][..]),
        (with_signature(""), &["signature-mismatch"]),
        (with_signature(&signature[..20]), &["signature-mismatch"]),
        (with_signature(&format!("{signature}AAAA")), &["signature-mismatch"]),
        (with_signature(&format!("{signature}=")), &["malformed"]),
        (with_signature(&loose_bits(signature)), &["malformed"]),
        (with_signature(&base64url::encode([0; 32])), &["signature-mismatch"]),
        (format!("{token}."), &["malformed"]),
        (format!("{token}.AAAA.AAAA"), &["malformed"]),
        (format!(".{token}"), &["malformed"]),
        (rest.to_owned(), &["malformed"]),
        (format!("{token} "), &["malformed"]),
        (format!("{token}\r"), &["malformed"]),
        (format!(" {token}"), &["malformed"]),
        (format!("Bearer {token}"), &["malformed"]),
        (token.replace('_', "/").replace('-', "+").replacen("eyJ", "eyJ\n", 1), &["malformed"]),
        ("..".to_owned(), &["malformed"]),
        (String::new(), &["malformed"]),
        ("a".repeat(20_000), &["malformed"]),
    ] {
        assert_eq!(codes(&verifier(), &token, NOW), expected, "{token:.60}");
    }
    assert_eq!(codes(&verifier(), b"\xff\xfe.\x00.", NOW), ["malformed"]);
}

#[test]
fn sizes_are_bounded_at_sixteen_kibibytes() {
    let padded = |padding: usize| signed(header().to_string(), with(claims(), "pad", json!("x".repeat(padding))));
    let fits = (11_000..12_500).rev().find(|padding| padded(*padding).len() <= 16_384).expect("a size that fits");
    assert_eq!(codes(&verifier(), padded(fits), NOW), [""; 0]);
    assert_eq!(codes(&verifier(), padded(fits + 3), NOW), ["malformed"]);
}

/// The classic: the public key, which everybody knows, taken for a shared secret.
#[test]
fn a_public_key_is_never_taken_for_a_secret() {
    let key = SigningKey::generate(Algorithm::Es256).expect("a key").with_key_id("hill");
    let public = key.verifying_key().to_public_jwk().expect("a public key");
    let verifier = Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access(ISSUER, AUDIENCE));
    let input = format!("{}.{}", base64url::encode(header().to_string()), base64url::encode(claims().to_string()));
    for secret in [Value::Object(public.clone()).to_string(), public["x"].as_str().expect("x").to_owned()] {
        let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, secret.as_bytes());
        let forged = format!("{input}.{}", base64url::encode(aws_lc_rs::hmac::sign(&key, input.as_bytes())));
        assert_eq!(codes(&verifier, &forged, NOW), ["algorithm-not-allowed"]);
    }
}

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
        (Expectations::plain(ISSUER).audience(AUDIENCE), Kind::Plain),
    ] {
        let verifier = Verifier::new(KeySet::new([secret().verifying_key()]), expectations);
        for (typ, of) in [("at+jwt", Kind::Access), ("refresh+jwt", Kind::Refresh), ("JWT", Kind::Plain)] {
            let token = signed(with(header(), "typ", json!(typ)), with(claims(), "sid", json!("s")));
            let expected: &[&str] = if kind == of { &[] } else { &["wrong-kind"] };
            assert_eq!(codes(&verifier, &token, NOW), expected, "{typ} as {kind}");
        }
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
        let found = verifier().check::<Staff>(&token, NOW).err().map(|finding| (finding.check.code(), finding.found));
        assert_eq!(found, expected.map(|found| ("misfit-claim", found.to_owned())), "{claims}");
    }
}

#[test]
fn a_verifier_without_keys_accepts_nothing_and_says_so() {
    let verifier = Verifier::new(KeySet::default(), Expectations::access(ISSUER, AUDIENCE));
    let finding =
        verifier.check::<NoOwn>(signed(header().to_string(), claims().to_string()), NOW).expect_err("refused");
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
        let draft = AccessDraft::new("obs-0017", AUDIENCE, "desk", Lifetime::minutes(5)).own(own.clone());
        assert_eq!(issuer.access(&draft, "t1", NOW).is_ok(), fine, "{own}");
    }
}

fn issue(issuer: Issuer) -> String {
    let draft = AccessDraft::new("obs-0017", AUDIENCE, "desk", Lifetime::minutes(5))
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
        let checked = verifier.check::<Object>(issue(Issuer::new(ISSUER, key)), NOW).expect("an accepted token");
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
