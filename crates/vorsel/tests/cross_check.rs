//! Tokens signed outside Vorsel are checked by Vorsel, and the other way round. Outside are Python's standard library
//! and the `openssl` command; a machine without them skips this and says so, unless `VORSEL_TEST_ALL` is set.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};

use serde_json::Value;
use vorsel::{
    AccessDraft, Algorithm, Expectations, Issuer, KeySet, Lifetime, NoOwn, Object, SigningKey, Verifier, now, random_id,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const SCRIPT: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/cross_check.py");

fn outside_is_there() -> bool {
    let runs = |command: &str, argument: &str| Command::new(command).arg(argument).output().is_ok();
    let there = runs("python3", "--version") && runs("openssl", "version");
    assert!(there || std::env::var_os("VORSEL_TEST_ALL").is_none(), "python3 and openssl are needed");
    if !there {
        println!("left out: the cross-check, which needs python3 and openssl");
    }
    there
}

fn outside(arguments: &[&str]) -> Output {
    Command::new("python3").arg(SCRIPT).args(arguments).output().expect("python3 runs")
}

/// A token and the keys it was signed with, made outside.
fn signed_outside(algorithm: Algorithm, folder: &Path) -> (String, KeySet) {
    let output = outside(&["sign", algorithm.name(), folder.to_str().expect("a path")]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let file = if algorithm.is_symmetric() { "secret.jwk" } else { "public.pem" };
    let keys = KeySet::read(&fs::read_to_string(folder.join(file)).expect("a key file")).expect("a key");
    (String::from_utf8(output.stdout).expect("text").trim().to_owned(), keys)
}

fn accepted_outside(algorithm: Algorithm, key: &SigningKey, token: &str, folder: &Path) -> bool {
    let jwk = match key.verifying_key().to_public_jwk() {
        Some(public) => Value::Object(public).to_string(),
        None => key.to_private_jwk().expect("a JWK").to_string(),
    };
    let file = folder.join("vorsel.jwk");
    fs::write(&file, jwk).expect("a file");
    let output = outside(&["check", algorithm.name(), file.to_str().expect("a path"), token]);
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    output.status.success()
}

fn issued(key: SigningKey) -> String {
    let draft = AccessDraft::new("obs-0017", AUDIENCE, "desk", Lifetime::minutes(5)).roles(["observer"]);
    Issuer::new(ISSUER, key).access(&draft, &random_id().expect("an id"), now()).expect("a token")
}

/// The token with the last bit of its signature's first byte turned.
fn altered(token: &str) -> String {
    let at = token.rfind('.').expect("a token") + 2;
    let other = if &token[at..=at] == "A" { "B" } else { "A" };
    format!("{}{other}{}", &token[..at], &token[at + 1..])
}

#[test]
fn openssl_and_python_agree_with_vorsel() {
    if !outside_is_there() {
        return;
    }
    for algorithm in Algorithm::ALL {
        let folder = tempfile::tempdir().expect("a folder");
        let (token, keys) = signed_outside(algorithm, folder.path());
        let verifier = Verifier::new(keys, Expectations::access(ISSUER, AUDIENCE));
        let checked =
            verifier.check::<Object>(&token, now()).unwrap_or_else(|finding| panic!("{algorithm}: {finding}"));
        assert_eq!((checked.claims().subject(), &checked.own()["training"]), (Some("obs-0017"), &Value::from(2)));
        assert!(verifier.check::<NoOwn>(altered(&token), now()).is_err());

        let private = folder.path().join("key.pem");
        let mut keys = vec![SigningKey::generate(algorithm).expect("a key")];
        if private.exists() {
            let pem = fs::read_to_string(private).expect("a key file");
            let key = SigningKey::from_pem(&pem).expect("a private key from openssl");
            assert_eq!(key.algorithm(), algorithm);
            keys.push(key);
        }
        for key in keys {
            let again = SigningKey::from_jwk(&key.to_private_jwk().expect("a JWK")).expect("the same key");
            let token = issued(key);
            assert!(accepted_outside(algorithm, &again, &token, folder.path()), "{algorithm}: ours is refused outside");
            assert!(!accepted_outside(algorithm, &again, &altered(&token), folder.path()), "{algorithm}: altered");
        }
    }
}
