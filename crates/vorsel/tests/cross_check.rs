//! Tokens signed outside Vorsel are checked by Vorsel, and the other way round. Outside are the `openssl` command with
//! Python's standard library, and Python's `cryptography`; a machine without one of them leaves it out and says so,
//! unless `VORSEL_TEST_ALL` is set.

use std::fs;
use std::path::Path;
use std::process::{Command, Output};

use serde_json::Value;
use vorsel::{
    AccessDraft, Algorithm, Expectations, Issuer, KeySet, Lifetime, Object, SigningKey, Verifier, now, random_id,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
/// Somebody who knows nothing of Vorsel: a Python script, and what it needs.
struct Witness {
    script: &'static str,
    needs: &'static str,
}

const WITNESSES: [Witness; 2] = [
    Witness {
        script: concat!(env!("CARGO_MANIFEST_DIR"), "/tests/cross_check.py"),
        needs: "import subprocess; subprocess.run(['openssl', 'version'], check=True)",
    },
    Witness {
        script: concat!(env!("CARGO_MANIFEST_DIR"), "/tests/cross_check_cryptography.py"),
        needs: "import cryptography",
    },
];

impl Witness {
    fn is_there(&self) -> bool {
        let there = Command::new("python3").args(["-c", self.needs]).output().is_ok_and(|done| done.status.success());
        assert!(there || std::env::var_os("VORSEL_TEST_ALL").is_none(), "needed in python3: {}", self.needs);
        if !there {
            println!("left out: a cross-check, which needs in python3: {}", self.needs);
        }
        there
    }

    fn says(&self, arguments: &[&str]) -> Output {
        Command::new("python3").arg(self.script).args(arguments).output().expect("python3 runs")
    }

    /// A token and the keys it was signed with, made outside.
    fn signed(&self, algorithm: Algorithm, folder: &Path) -> (String, KeySet) {
        let output = self.says(&["sign", algorithm.name(), folder.to_str().expect("a path")]);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let jwk = folder.join("keys.jwk");
        let file = if jwk.exists() { jwk } else { folder.join("public.pem") };
        let keys = KeySet::read(&fs::read_to_string(file).expect("a key file")).expect("a key");
        (String::from_utf8(output.stdout).expect("text").trim().to_owned(), keys)
    }

    fn accepts(&self, algorithm: Algorithm, key: &SigningKey, token: &str, folder: &Path) -> bool {
        let jwk = match key.verifying_key().to_public_jwk() {
            Some(public) => Value::Object(public).to_string(),
            None => key.to_private_jwk().expect("a JWK").to_string(),
        };
        let file = folder.join("vorsel.jwk");
        fs::write(&file, jwk).expect("a file");
        let output = self.says(&["check", algorithm.name(), file.to_str().expect("a path"), token]);
        assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
        output.status.success()
    }
}

fn issued(key: SigningKey) -> String {
    let draft =
        AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5)).roles(["observer"]);
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
    for witness in WITNESSES.iter().filter(|witness| witness.is_there()) {
        for algorithm in Algorithm::ALL {
            agrees(witness, algorithm);
        }
    }
}

fn agrees(witness: &Witness, algorithm: Algorithm) {
    let folder = tempfile::tempdir().expect("a folder");
    let (token, keys) = witness.signed(algorithm, folder.path());
    let verifier = Verifier::new(keys, Expectations::access(ISSUER, AUDIENCE));
    let checked = verifier.check_as::<Object>(&token, now()).unwrap_or_else(|finding| panic!("{algorithm}: {finding}"));
    assert_eq!((checked.claims().subject(), &checked.own()["training"]), (Some("obs-0017"), &Value::from(2)));
    assert!(verifier.check(altered(&token), now()).is_err());

    let private = folder.path().join("key.pem");
    let mut keys = vec![SigningKey::generate(algorithm).expect("a key")];
    if algorithm == Algorithm::Rs256 || private.exists() && !folder.path().join("keys.jwk").exists() {
        let pem = fs::read_to_string(private).expect("a key file");
        let key = SigningKey::from_pem(&pem).expect("a private key from outside");
        assert_eq!(key.algorithm(), algorithm);
        keys.push(key);
    }
    for key in keys {
        let again = SigningKey::from_jwk(&key.to_private_jwk().expect("a JWK")).expect("the same key");
        let token = issued(key);
        assert!(witness.accepts(algorithm, &again, &token, folder.path()), "{algorithm}: ours is refused outside");
        assert!(!witness.accepts(algorithm, &again, &altered(&token), folder.path()), "{algorithm}: altered");
    }
}

fn openssl(arguments: &[&str]) -> String {
    let output = Command::new("openssl").args(arguments).output().expect("openssl runs");
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("text")
}

#[test]
fn every_form_of_pem_that_openssl_writes_is_read_or_named() {
    if !WITNESSES[0].is_there() {
        return;
    }
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("key.pem");
    let key = path.to_str().expect("a path");
    for (kind, algorithm) in [
        (&["RSA"][..], Algorithm::Rs256),
        (&["EC", "-pkeyopt", "ec_paramgen_curve:P-256"], Algorithm::Es256),
        (&["EC", "-pkeyopt", "ec_paramgen_curve:P-384"], Algorithm::Es384),
        (&["EC", "-pkeyopt", "ec_paramgen_curve:P-521"], Algorithm::Es512),
        (&["ed25519"], Algorithm::EdDsa),
    ] {
        openssl(&[&["genpkey", "-out", key, "-algorithm"], kind].concat());
        let pkcs8 = fs::read_to_string(&path).expect("a key file");
        let mut private = vec![pkcs8.clone()];
        let mut public = vec![openssl(&["pkey", "-in", key, "-pubout"]), pkcs8];
        if algorithm != Algorithm::EdDsa {
            let traditional = openssl(&["pkey", "-in", key, "-traditional"]);
            private.push(traditional.clone());
            private.push(format!(
                "-----BEGIN EC PARAMETERS-----\nBggqhkjOPQMBBw==\n-----END EC PARAMETERS-----\n{traditional}"
            ));
        }
        if algorithm == Algorithm::Rs256 {
            public.push(openssl(&["rsa", "-in", key, "-RSAPublicKey_out"]));
        }
        let ids: Vec<_> = private
            .iter()
            .map(|pem| SigningKey::from_pem(pem).unwrap_or_else(|error| panic!("{algorithm}: {error}\n{pem:.40}")))
            .map(|key| (key.algorithm(), key.key_id().to_owned()))
            .chain(public.iter().map(|pem| {
                let set = KeySet::read(pem).unwrap_or_else(|error| panic!("{algorithm}: {error}\n{pem:.40}"));
                (set.keys()[0].algorithm(), set.keys()[0].key_id().to_owned())
            }))
            .collect();
        assert!(ids.iter().all(|id| *id == (algorithm, ids[0].1.clone())), "{ids:?}");
    }
    openssl(&["genpkey", "-out", key, "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:1024"]);
    let encrypted = openssl(&["pkey", "-in", key, "-aes256", "-passout", "pass:hill"]);
    openssl(&["genpkey", "-out", key, "-algorithm", "X25519"]);
    for (pem, expected) in [
        (encrypted, "but found \"ENCRYPTED PRIVATE KEY\""),
        (fs::read_to_string(&path).expect("a key file"), "but found a key of another kind"),
    ] {
        let error = SigningKey::from_pem(&pem).expect_err("not usable").to_string();
        assert!(error.contains(expected), "{error}");
    }
}
