//! Keys that are weak, wrong or strange, and what is said about them.

use serde_json::json;
use vorsel_core::{
    AccessDraft, Algorithm, Check, Expectations, Issuer, KeySet, Lifetime, Object, Secret, SigningKey, Timestamp,
    Verifier, VerifyingKey, base64url,
};

/// The message with every cause.
fn said(error: &dyn std::error::Error) -> String {
    let mut said = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        said.push_str(&format!(": {error}"));
        cause = error.source();
    }
    said
}

#[test]
fn weak_secrets_are_refused_with_the_length_they_need() {
    let random: Vec<u8> = (0..32).collect();
    for (secret, expected) in [
        (random[..31].to_vec(), "expected a secret of at least 32 bytes for HS256, but found 31"),
        (Vec::new(), "expected a secret of at least 32 bytes for HS256, but found 0"),
        (b"secret".to_vec(), "expected a secret of at least 32 bytes for HS256, but found 6"),
        (vec![b'a'; 64], "expected a random secret, but found one with only 1 different bytes"),
        (b"abcdefg".repeat(6), "expected a random secret, but found one with only 7 different bytes"),
        (random, "fine"),
    ] {
        let said = match SigningKey::hmac(Algorithm::Hs256, Secret::new(secret)) {
            Ok(_) => "fine".to_owned(),
            Err(error) => error.to_string(),
        };
        assert_eq!(said, expected);
    }
    assert!(SigningKey::hmac(Algorithm::EdDsa, Secret::new((0..32).collect())).is_err());
}

/// An RSA public key with a modulus of so many bits; every odd number will do for a key that only checks.
fn rsa(bits: usize, e: &str, more: &str) -> String {
    let n = base64url::encode(vec![0xff; bits / 8]);
    format!(r#"{{"kty":"RSA","n":"{n}","e":"{e}"{more}}}"#)
}

#[test]
fn jwks_that_cannot_be_used_say_why() {
    const X: &str = "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU";
    const Y: &str = "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0";
    const ED: &str = "11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo";
    for (jwk, expected) in [
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}"}}"#), "fine"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","use":"sig","alg":"ES256"}}"#), "fine"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","key_ops":["verify"]}}"#), "fine"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{X}"}}"#), "do not form one"),
        (
            format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}"}}"#),
            "expected a string in the JWK member \"y\", but found nothing",
        ),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":null}}"#), "but found null"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}=","y":"{Y}"}}"#), "base64url without padding"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"AA","y":"{Y}"}}"#), "expected exactly 32 bytes"),
        (format!(r#"{{"kty":"EC","crv":"P-256K","x":"{X}","y":"{Y}"}}"#), "but found \"P-256K\""),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","alg":"HS256"}}"#), "an \"alg\" that fits the key"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","use":"enc"}}"#), "but found \"enc\""),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","key_ops":["encrypt"]}}"#), "\"key_ops\""),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","x":"{X}","y":"{Y}"}}"#), "member \"x\" twice"),
        (format!(r#"{{"kty":"OKP","crv":"Ed25519","x":"{ED}","alg":"EdDSA"}}"#), "fine"),
        (format!(r#"{{"kty":"OKP","crv":"Ed25519","x":"{ED}","alg":"Ed25519"}}"#), "fine"),
        (format!(r#"{{"kty":"OKP","crv":"X25519","x":"{ED}"}}"#), "but found \"X25519\""),
        (
            r#"{"kty":"OKP","crv":"Ed25519","x":"AQAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"}"#.to_owned(),
            "do not form one",
        ),
        (
            r#"{"kty":"OKP","crv":"Ed25519","x":"AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAIA"}"#.to_owned(),
            "do not form one",
        ),
        (
            r#"{"kty":"OKP","crv":"Ed25519","x":"JuiVj8KyJ7BFw_SJ8u-Y8NXfrAXTxjM5sTgCiG1T_AU"}"#.to_owned(),
            "do not form one",
        ),
        (
            r#"{"kty":"OKP","crv":"Ed25519","x":"xxdqcD1N2E-6PAt2DRBnDyogU_osOczGTsf9d5KsA_o"}"#.to_owned(),
            "do not form one",
        ),
        (r#"{"kty":"OKP","crv":"Ed25519","x":"Jw"}"#.to_owned(), "expected exactly 32 bytes"),
        (format!(r#"{{"kty":"EC","crv":"P-384","x":"{X}","y":"{Y}"}}"#), "expected exactly 48 bytes"),
        (format!(r#"{{"kty":"EC","crv":"P-521","x":"{X}","y":"{Y}"}}"#), "expected exactly 66 bytes"),
        (format!(r#"{{"kty":"EC","crv":"P-256","x":"{X}","y":"{Y}","alg":"ES384"}}"#), "an \"alg\" that fits the key"),
        (rsa(2048, "AQAB", ""), "fine"),
        (rsa(2048, "AQAB", r#","alg":"PS512""#), "fine"),
        (rsa(8192, "Aw", ""), "fine"),
        (rsa(2040, "AQAB", ""), "expected an RSA key of 2048 to 8192 bits, but found 2040"),
        (rsa(8200, "AQAB", ""), "expected an RSA key of 2048 to 8192 bits, but found 8200"),
        (rsa(2048, "AQ", ""), "do not form one"),
        (rsa(2048, "Ag", ""), "do not form one"),
        (rsa(2048, "", ""), "a number without leading zeros"),
        (rsa(2048, "AAEAAQ", ""), "a number without leading zeros"),
        (rsa(2048, "AQAB", r#","alg":"ES256""#), "an \"alg\" that fits the key"),
        (rsa(2048, "AQAB", r#","alg":"RSA-OAEP""#), "an \"alg\" that fits the key"),
        (r#"{"kty":"RSA","e":"AQAB"}"#.to_owned(), "\"n\", but found nothing"),
        (
            r#"{"kty":"oct","alg":"HS512","k":"AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8"}"#.to_owned(),
            "at least 64 bytes for HS512, but found 32",
        ),
        (
            r#"{"kty":"oct","alg":"RS256","k":"AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8"}"#.to_owned(),
            "an \"alg\" that fits the key",
        ),
        (r#"{"kty":"oct","k":"c2VjcmV0"}"#.to_owned(), "at least 32 bytes for HS256, but found 6"),
        (r#"{"kty":"oct","k":7}"#.to_owned(), "but found a number"),
        (r#"{"kty":"AES"}"#.to_owned(), "but found \"AES\""),
        (r#"{}"#.to_owned(), "\"kty\", but found nothing"),
        (r#"[]"#.to_owned(), "expected an object"),
    ] {
        let found = VerifyingKey::from_jwk(&jwk).map_or_else(|error| said(&error), |_| "fine".to_owned());
        assert!(found.contains(expected), "{jwk}\n{found}");
        assert!(!found.contains("c2VjcmV0"), "a secret in a message: {found}");
    }
}

#[test]
fn a_private_key_whose_halves_do_not_belong_together_is_refused() {
    let halves = r#"{"kty":"OKP","crv":"Ed25519","d":"AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8",
                     "x":"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo"}"#;
    assert!(SigningKey::from_jwk(halves).is_err());
    assert!(VerifyingKey::from_jwk(halves).is_ok(), "its public half is a key");
}

#[test]
fn keys_of_every_algorithm_survive_a_round_trip_as_jwk() {
    for algorithm in Algorithm::ALL {
        let key = SigningKey::generate(algorithm).expect("a key").named("hill");
        let text = key.to_private_jwk().expect("a JWK");
        let again = SigningKey::from_jwk(&text).expect("our own JWK");
        assert_eq!((again.algorithm(), again.key_id()), (algorithm, "hill"));
        assert_eq!(again.to_private_jwk().expect("a JWK"), text);
        let Some(public) = key.verifying_key().to_public_jwk() else { continue };
        assert!(
            ["d", "p", "q", "dp", "dq", "qi", "k"].iter().all(|member| !public.contains_key(*member)),
            "{algorithm}"
        );
        let public = VerifyingKey::from_jwk(&serde_json::to_string(&public).expect("JSON")).expect("our own JWK");
        assert_eq!((public.algorithm(), public.key_id()), (algorithm, "hill"));
    }
}

#[test]
fn an_rsa_key_that_lacks_a_factor_or_has_a_wrong_one_is_refused() {
    let key = SigningKey::generate(Algorithm::Ps256).expect("a key");
    let jwk: Object = serde_json::from_str(&key.to_private_jwk().expect("a JWK")).expect("JSON");
    for (member, value, expected) in [
        ("p", None, "expected a string in the JWK member \"p\", but found nothing"),
        ("d", Some(json!("AQAB")), "do not form one"),
        ("qi", Some(json!("AQAB")), "do not form one"),
        ("oth", Some(json!([])), "expected an RSA key with two primes"),
    ] {
        let mut jwk = jwk.clone();
        jwk.remove(member);
        jwk.extend(value.map(|value| (member.to_owned(), value)));
        let error = SigningKey::from_jwk(&serde_json::to_string(&jwk).expect("JSON")).expect_err(member);
        assert!(said(&error).contains(expected), "{member}: {}", said(&error));
    }
}

#[test]
fn a_set_keeps_what_it_can_use_and_says_what_it_left_out() {
    let key = SigningKey::generate(Algorithm::Es256).expect("a key").named("one");
    let jwk = serde_json::to_string(&key.verifying_key().to_public_jwk()).expect("JSON");
    let set = KeySet::read(&format!(r#"{{"keys":[{{"kty":"DSA"}},{jwk},7]}}"#)).expect("a set");
    assert_eq!(set.keys().len(), 1);
    assert_eq!(set.keys()[0].key_id(), "one");
    assert_eq!(set.skipped().iter().map(|skipped| skipped.index).collect::<Vec<_>>(), [0, 2]);

    for (text, expected) in [
        (r#"{"keys":[]}"#, "the set is empty"),
        (r#"{"keys":[{"kty":"DSA"}]}"#, "key 0 of 1 was refused first"),
        (r#"{"keys":{}}"#, "expected an array in the member \"keys\", but found an object"),
        ("ssh-ed25519 AAAA", "expected a JWK Set, a JWK or PEM"),
        ("", "expected a JWK Set, a JWK or PEM"),
        ("-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----\n", "a key of another kind"),
        ("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", "but found \"CERTIFICATE\""),
        ("-----BEGIN PUBLIC KEY-----\n", "expected a PEM block"),
    ] {
        let error = KeySet::read(text).expect_err(text);
        assert!(said(&error).contains(expected), "{text}\n{}", said(&error));
    }
}

/// An issuer may know the key in a PEM file by any ID; a key that came with an ID is known by that alone.
#[test]
fn a_key_without_an_id_is_tried_for_any_and_one_with_an_id_is_not() {
    let now = Timestamp::from_secs(1_700_000_000);
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let mut jwk = key.verifying_key().to_public_jwk().expect("a JWK");
    let named = KeySet::read(&serde_json::to_string(&jwk).expect("JSON")).expect("a key");
    jwk.remove("kid");
    let nameless = KeySet::read(&serde_json::to_string(&jwk).expect("JSON")).expect("a key");
    let draft = AccessDraft::of("obs-0017").audience("audience").client("desk").lasting(Lifetime::minutes(5));
    let token = Issuer::new("issuer", key.named("elsewhere")).access(&draft, "t1", now).expect("a token");
    for (keys, expected) in [(nameless, None), (named, Some(Check::Key))] {
        let verifier = Verifier::new(keys, Expectations::access("issuer", "audience"));
        assert_eq!(verifier.check(&token, now).err().map(|finding| finding.check), expected);
    }
}

/// At most four keys are tried for a token, and whoever has more learns that this is why.
#[test]
fn keys_that_are_not_tried_are_told_of() {
    let now = Timestamp::from_secs(1_700_000_000);
    let keys: Vec<_> = (0..6).map(|_| SigningKey::generate(Algorithm::EdDsa).expect("a key")).collect();
    let nameless = |key: &SigningKey| {
        let mut jwk = key.verifying_key().to_public_jwk().expect("a JWK");
        jwk.remove("kid");
        KeySet::read(&serde_json::to_string(&jwk).expect("JSON")).expect("a key")
    };
    let draft = AccessDraft::of("obs-0017").audience("audience").client("desk").lasting(Lifetime::minutes(5));
    let foreign = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let plain = "one that it did not make over these bytes";
    for (count, signer, found) in [
        (4, &keys[3], None),
        (4, &foreign, Some(plain.to_owned())),
        (5, &keys[4], Some(format!("{plain}; 1 more key was not tried: give keys and tokens a kid"))),
        (6, &keys[5], Some(format!("{plain}; 2 more keys were not tried: give keys and tokens a kid"))),
        (6, &keys[3], None),
    ] {
        let set = keys[..count].iter().map(nameless).reduce(KeySet::and).expect("keys");
        let text = signer.to_private_jwk().expect("a JWK");
        let signer = SigningKey::from_jwk(&text).expect("a key").named("elsewhere");
        let token = Issuer::new("issuer", signer).access(&draft, "t1", now).expect("a token");
        let verifier = Verifier::new(set, Expectations::access("issuer", "audience"));
        assert_eq!(verifier.check(&token, now).err().map(|finding| finding.found), found, "{count}");
    }
}
