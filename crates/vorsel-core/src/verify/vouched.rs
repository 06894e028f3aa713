//! Claims that no token carries: the app's own word for a caller whom it knows by other means.

use serde::Serialize;
use serde_json::{Value, json};

use crate::token::{Checked, REGISTERED, Reading, Scopes, payload};

/// What an app vouches for cannot stand for a caller.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}, but found {found}")]
pub struct VouchError {
    /// What would be right.
    pub expected: &'static str,
    /// What was there.
    pub found: String,
}

impl<C: Serialize> Checked<C> {
    /// A caller for whom the app itself answers: the owner of an API key that it has looked up. Nothing is checked here;
    /// whoever calls this has done so.
    ///
    /// # Errors
    /// If the subject is empty, or `own` is no JSON object or uses a registered name.
    pub fn vouched(subject: &str, roles: &[String], scopes: &Scopes, own: C) -> Result<Self, VouchError> {
        let expected = "own claims that are a JSON object without registered names";
        let wrong = |found: String| VouchError { expected, found };
        if subject.is_empty() {
            return Err(VouchError { expected: "a subject", found: "an empty one".to_owned() });
        }
        let mut claims = match serde_json::to_value(&own) {
            Ok(Value::Object(claims)) => claims,
            Ok(_) => return Err(wrong("another value".to_owned())),
            Err(error) => return Err(wrong(error.to_string())),
        };
        if let Some(name) = REGISTERED.iter().find(|name| claims.contains_key(**name)) {
            return Err(wrong(format!("{name:?}")));
        }
        claims.extend([("sub".to_owned(), json!(subject)), ("roles".to_owned(), json!(roles))]);
        if !scopes.is_empty() {
            claims.insert("scope".to_owned(), json!(scopes.as_str()));
        }
        let claims = payload::read(Value::Object(claims).to_string().into_bytes(), &Reading::default());
        claims.map(|claims| Self::new(claims, own, None)).map_err(|detail| wrong(detail.found))
    }
}
