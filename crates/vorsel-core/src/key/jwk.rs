//! JWK reading and writing ([RFC 7517](https://www.rfc-editor.org/rfc/rfc7517),
//! [RFC 7518 section 6](https://www.rfc-editor.org/rfc/rfc7518#section-6),
//! [RFC 8037 section 2](https://www.rfc-editor.org/rfc/rfc8037#section-2)).

use std::fmt::Write;

use aws_lc_rs::rsa::KeyPairComponents;
use aws_lc_rs::signature::{EcdsaKeyPair, Ed25519KeyPair, RsaKeyPair, RsaPublicKeyComponents};
use der::asn1::{AnyRef, OctetStringRef, UintRef};
use der::{Reader as _, SliceReader};
use serde_json::Value;
use zeroize::{Zeroize, Zeroizing};

use super::algorithm::Algorithm;
use super::error::KeyError;
use super::secret::Secret;
use super::signing::SigningKey;
use super::suite::{CURVES, Curve, hmac_of, rsa_of};
use super::verifying::{PublicForm, VerifyingKey};
use crate::encoding::base64url;
use crate::encoding::json::{self, Object};

impl SigningKey {
    /// Reads a private or symmetric JWK ([RFC 7517](https://www.rfc-editor.org/rfc/rfc7517)). Without `alg`, the key
    /// type decides: a curve fixes the algorithm, `oct` is HS256, `RSA` is RS256.
    ///
    /// # Errors
    /// If the text is not a strict JWK, has no private part, or holds a key that is weak or of another kind.
    pub fn from_jwk(text: &str) -> Result<Self, KeyError> {
        let mut jwk = json::object(text.as_bytes())?;
        let read = Self::of_jwk(&jwk);
        wipe(&mut jwk);
        read
    }

    pub(crate) fn of_jwk(jwk: &Object) -> Result<Self, KeyError> {
        Reader { jwk }.signing_key()
    }

    /// The whole key as a JWK, secret part included: for a file that only its owner can read.
    ///
    /// # Errors
    /// [`KeyError::Primitive`] if the primitive does not hand the private part out.
    pub fn to_private_jwk(&self) -> Result<Zeroizing<String>, KeyError> {
        private_text(self.verifying(), &self.private_bytes()?)
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
    for member in ["k", "d", "p", "q", "dp", "dq", "qi"] {
        if let Some(Value::String(secret)) = jwk.get_mut(member) {
            secret.zeroize();
        }
    }
}

pub(super) fn verifying_key_of(jwk: &Object) -> Result<VerifyingKey, KeyError> {
    let reader = Reader { jwk };
    let form = reader.form()?;
    let algorithm = reader.algorithm(&form, "verify")?;
    let key = match form {
        Form::Oct => VerifyingKey::hmac(algorithm, &reader.bytes("k")?)?.0,
        Form::Ec(curve) => VerifyingKey::ecdsa(curve, &reader.point(curve)?)?,
        Form::Rsa => VerifyingKey::rsa(algorithm, reader.number("n")?.reveal(), reader.number("e")?.reveal())?,
        Form::Ed25519 => VerifyingKey::ed25519(reader.sized("x", 32)?.reveal())?,
    };
    Ok(match reader.optional_text("kid")? {
        Some(kid) => key.named(kid),
        None => key.without_name(),
    })
}

/// The key types supported here, with their curves.
enum Form {
    Oct,
    Ec(&'static Curve),
    Rsa,
    Ed25519,
}

struct Reader<'a> {
    jwk: &'a Object,
}

impl Reader<'_> {
    fn signing_key(&self) -> Result<SigningKey, KeyError> {
        let form = self.form()?;
        let algorithm = self.algorithm(&form, "sign")?;
        let invalid = |_| KeyError::Invalid { algorithm };
        let key = match form {
            Form::Oct => SigningKey::hmac(algorithm, self.bytes("k")?)?,
            Form::Ec(curve) => {
                let (d, point) = (self.sized("d", curve.bytes)?, self.point(curve)?);
                let pair = EcdsaKeyPair::from_private_key_and_public_key(curve.signing, d.reveal(), &point);
                SigningKey::ecdsa(curve, pair.map_err(invalid)?)?
            }
            Form::Rsa => SigningKey::rsa(algorithm, self.rsa_pair(algorithm)?)?,
            Form::Ed25519 => {
                let (d, x) = (self.sized("d", 32)?, self.sized("x", 32)?);
                let pair = Ed25519KeyPair::from_seed_and_public_key(d.reveal(), x.reveal());
                SigningKey::ed25519(pair.map_err(invalid)?)?
            }
        };
        Ok(match self.optional_text("kid")? {
            Some(kid) => key.named(kid),
            None => key.without_name(),
        })
    }

    /// The factors must be there too: without them signing is slow and open to faults
    /// ([RFC 7518 section 6.3.2](https://www.rfc-editor.org/rfc/rfc7518#section-6.3.2) recommends them).
    fn rsa_pair(&self, algorithm: Algorithm) -> Result<RsaKeyPair, KeyError> {
        if self.jwk.contains_key("oth") {
            let found = "a key with more than two primes".to_owned();
            return Err(KeyError::Unsupported { expected: "an RSA key with two primes", found });
        }
        let (n, e) = (self.number("n")?, self.number("e")?);
        // The size is judged first, so that a weak key is called weak.
        VerifyingKey::rsa(algorithm, n.reveal(), e.reveal())?;
        let [d, p, q, dp, dq, qi] = ["d", "p", "q", "dp", "dq", "qi"].map(|member| self.bytes(member));
        let (d, p, q, dp, dq, qi) = (d?, p?, q?, dp?, dq?, qi?);
        let components = KeyPairComponents {
            public_key: RsaPublicKeyComponents { n: n.reveal(), e: e.reveal() },
            d: d.reveal(),
            p: p.reveal(),
            q: q.reveal(),
            dP: dp.reveal(),
            dQ: dq.reveal(),
            qInv: qi.reveal(),
        };
        RsaKeyPair::from_components(&components).map_err(|_| KeyError::Invalid { algorithm })
    }

    fn form(&self) -> Result<Form, KeyError> {
        let unsupported = |found: &str| KeyError::Unsupported {
            expected: "a JWK with kty \"oct\", \"RSA\", \"EC\" on P-256, P-384 or P-521, or \"OKP\" on Ed25519",
            found: format!("{:?}", shortened(found)),
        };
        match self.text("kty")? {
            "oct" => Ok(Form::Oct),
            "RSA" => Ok(Form::Rsa),
            "EC" => {
                let name = self.text("crv")?;
                CURVES.iter().find(|curve| curve.name == name).map(Form::Ec).ok_or_else(|| unsupported(name))
            }
            "OKP" => match self.text("crv")? {
                "Ed25519" => Ok(Form::Ed25519),
                other => Err(unsupported(other)),
            },
            other => Err(unsupported(other)),
        }
    }

    /// The one algorithm the key is bound to: `alg`, or what the form is used with as a rule. `alg`, `use` and
    /// `key_ops` must agree with the form and the purpose where they are there (RFC 7517 sections 4.2 to 4.4).
    fn algorithm(&self, form: &Form, operation: &str) -> Result<Algorithm, KeyError> {
        let disagreement =
            |expected, found: &str| Err(KeyError::Unsupported { expected, found: format!("{:?}", shortened(found)) });
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
        let Some(name) = self.optional_text("alg")? else { return Ok(form.usual()) };
        match Algorithm::from_name(name).filter(|algorithm| form.allows(*algorithm)) {
            Some(algorithm) => Ok(algorithm),
            None => disagreement("an \"alg\" that fits the key", name),
        }
    }

    fn text(&self, member: &'static str) -> Result<&str, KeyError> {
        self.optional_text(member)?.ok_or_else(|| KeyError::Member {
            member,
            expected: "a string".to_owned(),
            found: "nothing".to_owned(),
        })
    }

    fn optional_text(&self, member: &'static str) -> Result<Option<&str>, KeyError> {
        match self.jwk.get(member) {
            None => Ok(None),
            Some(Value::String(text)) => Ok(Some(text)),
            Some(other) => Err(KeyError::Member {
                member,
                expected: "a string".to_owned(),
                found: json::type_name(other).to_owned(),
            }),
        }
    }

    fn bytes(&self, member: &'static str) -> Result<Secret, KeyError> {
        let wrong = |_| KeyError::Member {
            member,
            expected: "base64url without padding".to_owned(),
            found: "other text".to_owned(),
        };
        base64url::decode(self.text(member)?).map(Secret::new).map_err(wrong)
    }

    /// Bytes of a fixed count ([RFC 7518 section 6.2.1.2](https://www.rfc-editor.org/rfc/rfc7518#section-6.2.1.2)).
    fn sized(&self, member: &'static str, length: usize) -> Result<Secret, KeyError> {
        let bytes = self.bytes(member)?;
        match bytes.reveal().len() {
            found if found == length => Ok(bytes),
            found => {
                let expected = format!("exactly {length} bytes");
                Err(KeyError::Member { member, expected, found: format!("{found} bytes") })
            }
        }
    }

    /// A number without leading zeros ([RFC 7518 section 2](https://www.rfc-editor.org/rfc/rfc7518#section-2)).
    fn number(&self, member: &'static str) -> Result<Secret, KeyError> {
        let bytes = self.bytes(member)?;
        match bytes.reveal().first() {
            Some(first) if *first != 0 => Ok(bytes),
            _ => {
                let expected = "a number without leading zeros".to_owned();
                Err(KeyError::Member { member, expected, found: "another".to_owned() })
            }
        }
    }

    fn point(&self, curve: &Curve) -> Result<Vec<u8>, KeyError> {
        let (x, y) = (self.sized("x", curve.bytes)?, self.sized("y", curve.bytes)?);
        Ok([&[4], x.reveal(), y.reveal()].concat())
    }
}

impl Form {
    /// The algorithm of a key that does not name one.
    fn usual(&self) -> Algorithm {
        match self {
            Self::Oct => Algorithm::Hs256,
            Self::Rsa => Algorithm::Rs256,
            Self::Ec(curve) => curve.algorithm,
            Self::Ed25519 => Algorithm::EdDsa,
        }
    }

    fn allows(&self, algorithm: Algorithm) -> bool {
        match self {
            Self::Oct => hmac_of(algorithm).is_some(),
            Self::Rsa => rsa_of(algorithm).is_some(),
            Self::Ec(_) | Self::Ed25519 => algorithm == self.usual(),
        }
    }
}

fn shortened(text: &str) -> String {
    text.chars().take(40).collect()
}

fn public_object(key: &VerifyingKey, form: &PublicForm) -> Object {
    let members: &[(&str, &str)] = match form {
        PublicForm::Ec { curve, x, y } => &[("kty", "EC"), ("crv", curve.name), ("x", x), ("y", y)],
        PublicForm::Rsa { n, e } => &[("kty", "RSA"), ("n", n), ("e", e)],
        PublicForm::Okp { x } => &[("kty", "OKP"), ("crv", "Ed25519"), ("x", x)],
    };
    let mut jwk: Object = members.iter().map(|(name, value)| ((*name).to_owned(), (*value).into())).collect();
    name_key(&mut jwk, key);
    jwk
}

fn private_text(key: &VerifyingKey, private: &Secret) -> Result<Zeroizing<String>, KeyError> {
    let encoded = || Value::String(base64url::encode(private.reveal()));
    let mut jwk = key.to_public_jwk().unwrap_or_default();
    match key.public_form() {
        None => {
            jwk.insert("kty".to_owned(), "oct".into());
            jwk.insert("k".to_owned(), encoded());
            name_key(&mut jwk, key);
        }
        Some(PublicForm::Rsa { .. }) => rsa_members(private, &mut jwk).ok_or(KeyError::Primitive)?,
        Some(_) => {
            jwk.insert("d".to_owned(), encoded());
        }
    }
    // Text that grew would leave copies behind: the private part as base64url and the public one fit into this.
    let mut text = Zeroizing::new(String::with_capacity(2 * private.reveal().len() + 2_048));
    let value = Value::Object(jwk);
    write!(text, "{value}").map_err(|_| KeyError::Primitive)?;
    if let Value::Object(mut jwk) = value {
        wipe(&mut jwk);
    }
    Ok(text)
}

/// The private numbers of an RSA key, taken from its document as the primitives write it: a version, an algorithm and the key
/// ([RFC 5958 section 2](https://www.rfc-editor.org/rfc/rfc5958#section-2)), which is a version and eight numbers
/// ([RFC 8017 appendix A.1.2](https://www.rfc-editor.org/rfc/rfc8017#appendix-A.1.2)).
fn rsa_members(pkcs8: &Secret, jwk: &mut Object) -> Option<()> {
    let document = SliceReader::new(pkcs8.reveal()).ok()?.sequence(|reader| {
        let (_version, _algorithm): (UintRef<'_>, AnyRef<'_>) = (reader.decode()?, reader.decode()?);
        reader.decode::<&OctetStringRef>()
    });
    let key = document.ok()?;
    let numbers = SliceReader::new(key.as_bytes()).ok()?.sequence(|reader| {
        let mut numbers = [const { None }; 9];
        for number in &mut numbers {
            *number = Some(reader.decode::<UintRef<'_>>()?);
        }
        Ok::<_, der::Error>(numbers)
    });
    let [_version, _n, _e, private @ ..] = numbers.ok()?;
    for (member, number) in ["d", "p", "q", "dp", "dq", "qi"].into_iter().zip(private) {
        jwk.insert(member.to_owned(), base64url::encode(number?.as_bytes()).into());
    }
    Some(())
}

fn name_key(jwk: &mut Object, key: &VerifyingKey) {
    for (member, value) in [("use", "sig"), ("alg", key.algorithm().name()), ("kid", key.key_id())] {
        jwk.insert(member.to_owned(), value.into());
    }
}
