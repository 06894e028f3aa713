//! JWTs that the library would not issue, signed with a key that it knows.

use aws_lc_rs::signature::{Ed25519KeyPair, KeyPair};
use serde_json::{Value, json};
use vorsel::{KeySet, base64url};

/// A key outside of the library.
pub(crate) struct Pen(Ed25519KeyPair);

impl Pen {
    pub(crate) fn new() -> Self {
        Self(Ed25519KeyPair::generate().expect("a key"))
    }

    /// What the library knows of it.
    pub(crate) fn keys(&self) -> KeySet {
        let x = base64url::encode(self.0.public_key().as_ref());
        let set = json!({ "keys": [{ "kty": "OKP", "crv": "Ed25519", "alg": "EdDSA", "x": x }] });
        KeySet::read(&set.to_string()).expect("a key set")
    }

    pub(crate) fn jwt(&self, header: &Value, claims: &Value) -> String {
        let [header, claims] = [header, claims].map(|part| base64url::encode(part.to_string()));
        let signed = format!("{header}.{claims}");
        format!("{signed}.{}", base64url::encode(self.0.sign(signed.as_bytes())))
    }
}
