//! Form parameters: each at most once, empty ones as if they were not there
//! ([RFC 6749 section 3.2](https://www.rfc-editor.org/rfc/rfc6749#section-3.2)).

use std::fmt;

use axum::Form;
use axum::extract::rejection::FormRejection;
use serde::de::{Deserialize, Deserializer, Error, MapAccess, Visitor};

use super::reply::OAuthError;

/// How many parameters a form may have: a token endpoint knows a dozen.
const MOST: usize = 64;
/// How much of a name an answer repeats.
const LONGEST_NAME: usize = 80;

/// The parameters of a form.
pub(super) struct Parameters(Vec<(String, String)>);

impl Parameters {
    /// Reads what axum's extractor made of the body.
    pub(super) fn read(form: Result<Form<Self>, FormRejection>) -> Result<Self, OAuthError> {
        let Form(parameters) = form.map_err(|rejection| {
            OAuthError::invalid_request(format!(
                "expected a body of type application/x-www-form-urlencoded: {}",
                rejection.body_text()
            ))
        })?;
        let names = || parameters.0.iter().map(|(name, _)| name);
        let twice = names().enumerate().find(|(at, name)| names().take(*at).any(|earlier| earlier == *name));
        if let Some((_, name)) = twice {
            let name: String = name.chars().take(LONGEST_NAME).collect();
            return Err(OAuthError::invalid_request(format!("expected each parameter once, but found {name} twice")));
        }
        Ok(parameters)
    }

    /// A parameter that may be missing.
    pub(super) fn get(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    /// A parameter that must be there.
    pub(super) fn required(&self, name: &str) -> Result<&str, OAuthError> {
        self.get(name).ok_or_else(|| OAuthError::invalid_request(format!("expected the parameter {name}")))
    }
}

impl<'de> Deserialize<'de> for Parameters {
    fn deserialize<D: Deserializer<'de>>(reader: D) -> Result<Self, D::Error> {
        reader.deserialize_map(ParametersVisitor)
    }
}

/// Stops at the first parameter too many, before the others have cost anything.
struct ParametersVisitor;

impl<'de> Visitor<'de> for ParametersVisitor {
    type Value = Parameters;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "at most {MOST} parameters")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Parameters, A::Error> {
        let (mut parameters, mut count) = (Vec::new(), 0);
        while let Some((name, value)) = members.next_entry::<String, String>()? {
            count += 1;
            if count > MOST {
                return Err(A::Error::custom(format_args!("more than {MOST} parameters")));
            }
            if !value.is_empty() {
                parameters.push((name, value));
            }
        }
        Ok(Parameters(parameters))
    }
}
