//! Form parameters: each at most once, empty ones as if they were not there
//! ([RFC 6749 section 3.2](https://www.rfc-editor.org/rfc/rfc6749#section-3.2)).

use std::collections::HashSet;

use axum::Form;
use axum::extract::rejection::FormRejection;

use super::reply::OAuthError;

/// How much of a name an answer repeats.
const LONGEST_NAME: usize = 80;

/// The parameters of a form.
pub(super) struct Parameters(Vec<(String, String)>);

impl Parameters {
    /// Reads what axum's extractor made of the body.
    pub(super) fn read(form: Result<Form<Vec<(String, String)>>, FormRejection>) -> Result<Self, OAuthError> {
        let Form(mut parameters) = form.map_err(|rejection| {
            OAuthError::invalid_request(format!(
                "expected a body of type application/x-www-form-urlencoded: {}",
                rejection.body_text()
            ))
        })?;
        parameters.retain(|(_, value)| !value.is_empty());
        let mut seen = HashSet::new();
        if let Some((name, _)) = parameters.iter().find(|(name, _)| !seen.insert(name.as_str())) {
            let name: String = name.chars().take(LONGEST_NAME).collect();
            return Err(OAuthError::invalid_request(format!("expected each parameter once, but found {name} twice")));
        }
        Ok(Self(parameters))
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
