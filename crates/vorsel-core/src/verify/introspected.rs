//! What an issuer has answered, held against the same expectations as a token ([RFC 7662 section 2.2](https://www.rfc-editor.org/rfc/rfc7662#section-2.2)).

use std::ops::ControlFlow;

use serde::de::DeserializeOwned;
use serde_json::Value;

use super::audit::FirstFailure;
use super::verifier::{Run, Verifier};
use crate::encoding::json;
use crate::finding::{Check, Detail, Finding, quoted};
use crate::time::Timestamp;
use crate::token::{Checked, payload};

/// Why the answer to an introspection gives no claims.
///
/// ```
/// # use vorsel_core::{Expectations, IntrospectedError, KeySet, Timestamp, Verifier};
/// # let verifier = Verifier::new(KeySet::default(), Expectations::access("https://id.skarnhill.test", "https://api.skarnhill.test"));
/// let answer = verifier.check_introspected::<vorsel_core::NoOwn>(b"no JSON", Timestamp::from_secs(1_700_000_000));
/// assert!(matches!(answer, Err(IntrospectedError::Answer { .. })));
/// ```
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum IntrospectedError {
    /// It is no answer to such a question, so nobody knows what the token is worth.
    #[error("expected the answer to an introspection (RFC 7662 section 2.2), but found {found}")]
    Answer {
        /// What was there.
        found: String,
    },
    /// The token is not active, or is not for here.
    #[error(transparent)]
    Token(Box<Finding>),
}

impl Verifier {
    /// The claims of a token that its issuer calls active, from its answer. What is required of a token is
    /// required of the answer, but for a signature: who has answered, only whoever has asked knows. An answer without `iss` is
    /// taken for one of the issuer expected.
    ///
    /// # Errors
    /// If it is no such answer, or the first finding that does not hold: a token that is not active (`revoked`), or for another
    /// audience, for instance.
    pub fn check_introspected<C: DeserializeOwned>(
        &self,
        answer: impl AsRef<[u8]>,
        now: Timestamp,
    ) -> Result<Checked<C>, IntrospectedError> {
        let wrong = |found: String| IntrospectedError::Answer { found };
        let mut members = json::object(answer.as_ref()).map_err(|error| wrong(error.found()))?;
        match members.remove("active") {
            Some(Value::Bool(true)) => {}
            Some(Value::Bool(false)) => return Err(IntrospectedError::Token(inactive())),
            Some(other) => return Err(wrong(format!("{} in \"active\"", json::type_name(&other)))),
            None => return Err(wrong("no member \"active\"".to_owned())),
        }
        let token_type = members.remove("token_type");
        if let Some(issuer) = self.expectations().expected_issuer() {
            members.entry("iss").or_insert_with(|| issuer.into());
        }
        let mut audit = FirstFailure::default();
        let run = Run::of(self, now, &mut audit);
        match run.answer(token_type.as_ref(), Value::Object(members).to_string().into_bytes()) {
            ControlFlow::Continue(Some(checked)) if audit.0.is_none() => Ok(checked),
            _ => Err(audit.0.map_or_else(|| wrong("one that can't be checked".to_owned()), IntrospectedError::Token)),
        }
    }
}

fn inactive() -> Box<Finding> {
    Box::new(Finding {
        check: Check::Revocation,
        held: false,
        expected: "a token that its issuer calls active".to_owned(),
        found: "one that is not".to_owned(),
    })
}

impl Run<'_, FirstFailure> {
    fn answer<C: DeserializeOwned>(
        mut self,
        token_type: Option<&Value>,
        claims: Vec<u8>,
    ) -> ControlFlow<(), Option<Checked<C>>> {
        let is_bearer = |found: &Value| found.as_str().is_some_and(|found| found.eq_ignore_ascii_case("bearer"));
        self.note(Check::Kind, token_type.is_none_or(is_bearer), || {
            let found = token_type.map_or_else(String::new, |found| quoted(&found.to_string()));
            Detail::new("an access token, token_type \"Bearer\"", format!("token_type {found}"))
        })?;
        let claims = match payload::read(claims, self.reading()) {
            Ok(claims) => claims,
            Err(detail) => {
                self.note(Check::ClaimsForm, false, || detail)?;
                return ControlFlow::Continue(None);
            }
        };
        self.claims(claims, None)
    }
}
