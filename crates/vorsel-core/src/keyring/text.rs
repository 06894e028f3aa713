//! A keyring as text: a JWK Set ([RFC 7517 section 5](https://www.rfc-editor.org/rfc/rfc7517#section-5)) of private keys
//! with their dates as members of their own, for a file that only its owner can read.
//!
//! A key that was compromised or destroyed stands there without its numbers, so that no reader of JWK Sets takes it for
//! a key.

use std::sync::Arc;
use std::time::Duration;

use serde_json::Value;
use zeroize::{Zeroize, Zeroizing};

use super::error::KeyringTextError;
use super::record::KeyRecord;
use super::ring::{KeyTimes, Keyring};
use crate::encoding::json::{self, Object};
use crate::key::{Algorithm, KeyError, SigningKey};
use crate::time::{Lifetime, Timestamp};

impl Keyring {
    /// The whole keyring, private keys included: for a file that only its owner can read.
    ///
    /// # Errors
    /// [`KeyError::Primitive`] if the primitive does not hand a private key out.
    pub fn to_private_text(&self) -> Result<Zeroizing<String>, KeyError> {
        let keys: Result<Vec<_>, _> = self.keys.iter().map(member).collect();
        let keys = keys?;
        // Text that grew would leave copies behind.
        let room = keys.iter().map(|key| key.len() + 2).sum::<usize>() + 256;
        let mut text = Zeroizing::new(String::with_capacity(room));
        let KeyTimes { longest_lifetime, cache_time, spread } = self.times;
        let times = [longest_lifetime.as_duration(), cache_time, spread].map(|span| span.as_secs());
        let ([longest_lifetime, cache_time, spread], step) = (times, self.step);
        text.push_str(&format!(
            "{{\"longest_lifetime\":{longest_lifetime},\"cache_time\":{cache_time},\"spread\":{spread},\"step\":{step},\"keys\":["
        ));
        for (index, key) in keys.iter().enumerate() {
            text.push_str(if index == 0 { "\n" } else { ",\n" });
            text.push_str(key);
        }
        text.push_str("\n]}\n");
        Ok(text)
    }

    /// Reads what [`to_private_text`](Self::to_private_text) wrote.
    ///
    /// # Errors
    /// If the text is not a strict JSON object, a member is missing or malformed, or a key is refused.
    pub fn from_private_text(text: &str) -> Result<Self, KeyringTextError> {
        let mut object = json::object(text.as_bytes())?;
        let ring = read(&object);
        if let Some(Value::Array(keys)) = object.get_mut("keys") {
            keys.iter_mut().for_each(wipe);
        }
        ring
    }
}

/// One key with its dates.
fn member(record: &KeyRecord) -> Result<Zeroizing<String>, KeyError> {
    let key = match &record.key {
        Some(key) => key.to_private_jwk()?,
        None => Zeroizing::new(withdrawn(record)),
    };
    let mut text = Zeroizing::new(String::with_capacity(key.len() + 256));
    text.push_str(key.trim_end_matches('}'));
    if let Some(thumbprint) = &record.thumbprint {
        text.push_str(&format!(",\"thumbprint\":\"{thumbprint}\""));
    }
    let dates = [
        ("published_at", Some(record.published_at)),
        ("active_from", record.active_from),
        ("compromised_at", record.compromised_at),
        ("destroyed_at", record.destroyed_at),
    ];
    for (name, date) in dates {
        date.inspect(|date| text.push_str(&format!(",\"{name}\":{}", date.as_secs())));
    }
    text.push('}');
    Ok(text)
}

fn withdrawn(record: &KeyRecord) -> String {
    let members = [("kid", record.kid.as_str()), ("alg", record.algorithm.name())];
    let members: Object = members.iter().map(|(name, value)| ((*name).to_owned(), (*value).into())).collect();
    Value::Object(members).to_string()
}

fn wipe(key: &mut Value) {
    let Value::Object(members) = key else { return };
    for value in members.values_mut() {
        if let Value::String(text) = value {
            text.zeroize();
        }
    }
}

fn read(object: &Object) -> Result<Keyring, KeyringTextError> {
    let wrong = |member, expected| KeyringTextError::Member { member, index: None, expected };
    let seconds = |member| {
        object.get(member).and_then(Value::as_u64).map(Duration::from_secs).ok_or(wrong(member, "a number of seconds"))
    };
    let longest_lifetime = Lifetime::try_from(seconds("longest_lifetime")?)
        .map_err(|_| wrong("longest_lifetime", "from 1 second to 10 years"))?;
    let times = KeyTimes { longest_lifetime, cache_time: seconds("cache_time")?, spread: seconds("spread")? };
    let Some(Value::Array(keys)) = object.get("keys") else { return Err(wrong("keys", "an array of JWKs")) };
    let step = match object.get("step") {
        // Releases before did not count them.
        None => 0,
        Some(step) => step.as_u64().ok_or(wrong("step", "a number of steps"))?,
    };
    let mut ring = Keyring { times, keys: Vec::with_capacity(keys.len()), step };
    for (index, key) in keys.iter().enumerate() {
        let record = read_key(key, index)?;
        ring.admit(&record.kid, record.algorithm, record.thumbprint.as_deref())
            .map_err(|source| KeyringTextError::Step { index, source })?;
        ring.keys.push(record);
    }
    Ok(ring)
}

fn read_key(key: &Value, index: usize) -> Result<KeyRecord, KeyringTextError> {
    let wrong = |member, expected| KeyringTextError::Member { member, index: Some(index), expected };
    let Value::Object(jwk) = key else { return Err(wrong("keys", "objects")) };
    let date = |member| match jwk.get(member) {
        None => Ok(None),
        Some(value) => {
            value.as_i64().map(|at| Some(Timestamp::from_secs(at))).ok_or(wrong(member, "a number of seconds"))
        }
    };
    let (compromised_at, destroyed_at) = (date("compromised_at")?, date("destroyed_at")?);
    let text = |member| jwk.get(member).and_then(Value::as_str).ok_or(wrong(member, "a string"));
    let key = match compromised_at.or(destroyed_at) {
        Some(_) => None,
        None => Some(SigningKey::of_jwk(jwk).map_err(|source| KeyringTextError::Key { index, source })?),
    };
    let thumbprint = match &key {
        Some(key) => Some(key.verifying().thumbprint().to_owned()),
        None => jwk.get("thumbprint").and_then(Value::as_str).map(str::to_owned),
    };
    let algorithm = Algorithm::from_name(text("alg")?).ok_or(wrong("alg", "a supported algorithm"))?;
    Ok(KeyRecord {
        kid: text("kid")?.to_owned(),
        algorithm,
        thumbprint,
        key: key.map(Arc::new),
        published_at: date("published_at")?.ok_or(wrong("published_at", "a number of seconds"))?,
        active_from: date("active_from")?,
        compromised_at,
        destroyed_at,
    })
}
