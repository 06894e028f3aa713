//! JWK reading and writing ([RFC 7517](https://www.rfc-editor.org/rfc/rfc7517),
//! [RFC 7518 section 6](https://www.rfc-editor.org/rfc/rfc7518#section-6),
//! [RFC 8037 section 2](https://www.rfc-editor.org/rfc/rfc8037#section-2)).

use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair};
use serde_json::Value;
use zeroize::{Zeroize, Zeroizing};

use super::error::KeyError;
use super::secret::Secret;
use super::signing::SigningKey;
use super::verifying::{PublicForm, VerifyingKey};
use crate::algorithm::Algorithm;
use crate::base64url;
use crate::json::{self, Object};

impl SigningKey {
    /// Reads a private or symmetric JWK ([RFC 7517](https://www.rfc-editor.org/rfc/rfc7517)). Without `alg`, the key
    /// type decides: `oct` is HS256, P-256 is ES256, Ed25519 is EdDSA.
    ///
    /// # Errors
    /// If the text is not a strict JWK, has no private part, or holds a key that is weak or of another kind.
    pub fn from_jwk(text: &str) -> Result<Self, KeyError> {
        let mut jwk = json::object(text.as_bytes())?;
        let read = Reader { jwk: &jwk }.signing_key();
        wipe(&mut jwk);
        read
    }

    /// The whole key as a JWK, secret part included: for a file that only its owner can read.
    ///
    /// # Errors
    /// [`KeyError::Primitive`] if the primitive does not hand the private part out.
    pub fn to_private_jwk(&self) -> Result<Zeroizing<String>, KeyError> {
        Ok(private_text(&self.verifying_key(), &self.private_bytes()?))
    }
}

impl VerifyingKey {
    /// Reads a JWK. A private JWK is taken for its public part.
    ///
    /// # Errors
    /// As [`SigningKey::from_jwk`], but a private part is not needed.
    pub fn from_jwk(text: &str) -> Result<Self, KeyError> {
        let mut jwk = json::object(text.as_bytes())?;
        let read = verifying_key_of(&jwk);
        wipe(&mut jwk);
        read
    }

    /// The public JWK, or nothing for a shared secret, which has no public part.
    #[must_use]
    pub fn to_public_jwk(&self) -> Option<Object> {
        self.public_form().map(|form| public_object(self, form))
    }
}

/// Overwrites the secret members of a JWK that has been read.
pub(super) fn wipe(jwk: &mut Object) {
    for member in ["k", "d"] {
        if let Some(Value::String(secret)) = jwk.get_mut(member) {
            secret.zeroize();
        }
    }
}

pub(super) fn verifying_key_of(jwk: &Object) -> Result<VerifyingKey, KeyError> {
    let reader = Reader { jwk };
    let key = match reader.form()? {
        Form::Oct => VerifyingKey::hmac(reader.algorithm(Algorithm::Hs256, "verify")?, &reader.bytes("k", None)?)?,
        Form::P256 => {
            reader.algorithm(Algorithm::Es256, "verify")?;
            VerifyingKey::es256(&reader.p256_point()?)?
        }
        Form::Ed25519 => {
            reader.algorithm(Algorithm::EdDsa, "verify")?;
            VerifyingKey::ed25519(reader.bytes("x", Some(32))?.expose())?
        }
    };
    Ok(match reader.optional_text("kid")? {
        Some(kid) => key.with_key_id(kid),
        None => key.without_name(),
    })
}

/// The key types supported here, with their curves.
enum Form {
    Oct,
    P256,
    Ed25519,
}

struct Reader<'a> {
    jwk: &'a Object,
}

impl Reader<'_> {
    fn signing_key(&self) -> Result<SigningKey, KeyError> {
        let key = match self.form()? {
            Form::Oct => SigningKey::hmac(self.algorithm(Algorithm::Hs256, "sign")?, self.bytes("k", None)?)?,
            Form::P256 => {
                let algorithm = self.algorithm(Algorithm::Es256, "sign")?;
                let (d, point) = (self.bytes("d", Some(32))?, self.p256_point()?);
                let curve = &ECDSA_P256_SHA256_FIXED_SIGNING;
                let pair = EcdsaKeyPair::from_private_key_and_public_key(curve, d.expose(), &point)
                    .map_err(|_| KeyError::Invalid { algorithm })?;
                SigningKey::ecdsa(pair)?
            }
            Form::Ed25519 => {
                let algorithm = self.algorithm(Algorithm::EdDsa, "sign")?;
                let (d, x) = (self.bytes("d", Some(32))?, self.bytes("x", Some(32))?);
                let pair = Ed25519KeyPair::from_seed_and_public_key(d.expose(), x.expose())
                    .map_err(|_| KeyError::Invalid { algorithm })?;
                SigningKey::ed25519(pair)?
            }
        };
        Ok(match self.optional_text("kid")? {
            Some(kid) => key.with_key_id(kid),
            None => key.without_name(),
        })
    }

    fn form(&self) -> Result<Form, KeyError> {
        let unsupported = |found: &str| KeyError::Unsupported {
            expected: "a JWK with kty \"oct\", \"EC\" on P-256 or \"OKP\" on Ed25519",
            found: format!("{:?}", shortened(found)),
        };
        match self.text("kty")? {
            "oct" => Ok(Form::Oct),
            "EC" => match self.text("crv")? {
                "P-256" => Ok(Form::P256),
                other => Err(unsupported(other)),
            },
            "OKP" => match self.text("crv")? {
                "Ed25519" => Ok(Form::Ed25519),
                other => Err(unsupported(other)),
            },
            other => Err(unsupported(other)),
        }
    }

    /// The algorithm the key is bound to: `natural`, the only one its form allows. `alg`, `use` and `key_ops` must
    /// agree where they are there (RFC 7517 sections 4.2 to 4.4).
    fn algorithm(&self, natural: Algorithm, operation: &str) -> Result<Algorithm, KeyError> {
        let disagreement =
            |expected, found: &str| Err(KeyError::Unsupported { expected, found: format!("{:?}", shortened(found)) });
        match self.optional_text("alg")? {
            Some(name) if Algorithm::from_name(name) != Some(natural) => {
                return disagreement("an \"alg\" that fits the key: HS256, ES256 or EdDSA", name);
            }
            _ => {}
        }
        match self.optional_text("use")? {
            Some(name) if name != "sig" => return disagreement("the \"use\" sig", name),
            _ => {}
        }
        match self.jwk.get("key_ops") {
            None => {}
            // A private key may be read for its public part, so "sign" is enough to check with.
            Some(Value::Array(names)) if names.iter().any(|name| name == operation || name == "sign") => {}
            Some(_) => return disagreement("\"key_ops\" that name the operation", operation),
        }
        Ok(natural)
    }

    fn text(&self, member: &'static str) -> Result<&str, KeyError> {
        self.optional_text(member)?.ok_or_else(|| KeyError::Member {
            member,
            expected: "a string",
            found: "nothing".to_owned(),
        })
    }

    fn optional_text(&self, member: &'static str) -> Result<Option<&str>, KeyError> {
        match self.jwk.get(member) {
            None => Ok(None),
            Some(Value::String(text)) => Ok(Some(text)),
            Some(other) => {
                Err(KeyError::Member { member, expected: "a string", found: json::type_name(other).to_owned() })
            }
        }
    }

    fn bytes(&self, member: &'static str, length: Option<usize>) -> Result<Secret, KeyError> {
        let bytes = base64url::decode(self.text(member)?).map(Secret::new).map_err(|_| KeyError::Member {
            member,
            expected: "base64url without padding",
            found: "other text".to_owned(),
        })?;
        match length {
            Some(length) if bytes.expose().len() != length => Err(KeyError::Member {
                member,
                expected: "exactly 32 bytes",
                found: format!("{} bytes", bytes.expose().len()),
            }),
            _ => Ok(bytes),
        }
    }

    fn p256_point(&self) -> Result<Vec<u8>, KeyError> {
        let (x, y) = (self.bytes("x", Some(32))?, self.bytes("y", Some(32))?);
        Ok([&[4], x.expose(), y.expose()].concat())
    }
}

fn shortened(text: &str) -> String {
    text.chars().take(40).collect()
}

fn public_object(key: &VerifyingKey, form: &PublicForm) -> Object {
    let (kty, crv, x, y) = match form {
        PublicForm::Ec { x, y } => ("EC", "P-256", x, Some(y)),
        PublicForm::Okp { x } => ("OKP", "Ed25519", x, None),
    };
    let members = [("kty", kty), ("crv", crv), ("x", x)];
    let mut jwk: Object = members.into_iter().map(|(name, value)| (name.to_owned(), value.into())).collect();
    if let Some(y) = y {
        jwk.insert("y".to_owned(), y.as_str().into());
    }
    name_key(&mut jwk, key);
    jwk
}

fn private_text(key: &VerifyingKey, private: &Secret) -> Zeroizing<String> {
    let mut jwk = match key.public_form() {
        Some(form) => public_object(key, form),
        None => {
            let mut jwk = Object::new();
            jwk.insert("kty".to_owned(), "oct".into());
            name_key(&mut jwk, key);
            jwk
        }
    };
    let member = if key.public_form().is_some() { "d" } else { "k" };
    jwk.insert(member.to_owned(), base64url::encode(private.expose()).into());
    let value = Value::Object(jwk);
    let text = Zeroizing::new(value.to_string());
    if let Value::Object(mut jwk) = value {
        wipe(&mut jwk);
    }
    text
}

fn name_key(jwk: &mut Object, key: &VerifyingKey) {
    for (member, value) in [("use", "sig"), ("alg", key.algorithm().name()), ("kid", key.key_id())] {
        jwk.insert(member.to_owned(), value.into());
    }
}
