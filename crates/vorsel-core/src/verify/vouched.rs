//! Claims that no token carries: the app's own word for a caller whom it knows by other means.

use serde::Serialize;
use serde_json::{Value, json};

use crate::token::{Checked, NoOwn, REGISTERED, Reading, Scopes, payload};

/// What an app vouches for cannot stand for a caller.
///
/// ```
/// let error = vorsel_core::Vouched::subject("").checked().unwrap_err();
/// assert_eq!(error.to_string(), "expected a subject, but found an empty one");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("expected {expected}, but found {found}")]
pub struct VouchError {
    /// What would be right.
    pub expected: &'static str,
    /// What was there.
    pub found: String,
}

/// A caller for whom the app itself answers, such as the owner of an API key that it has looked up.
///
/// ```
/// use vorsel_core::{Scopes, Vouched};
///
/// let caller = Vouched::client("dome-controller").scopes(Scopes::parse("dome:move")?).checked()?;
/// assert_eq!(caller.claims().client_id(), Some("dome-controller"));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[derive(Clone, Debug)]
#[must_use]
pub struct Vouched<C = NoOwn> {
    subject: String,
    client_id: Option<String>,
    roles: Vec<String>,
    scopes: Scopes,
    own: C,
}

impl Vouched {
    /// One of the app's own people.
    pub fn subject(subject: impl Into<String>) -> Self {
        let (roles, scopes) = (Vec::new(), Scopes::default());
        Self { subject: subject.into(), client_id: None, roles, scopes, own: NoOwn {} }
    }

    /// A client that calls for itself: it is its own subject
    /// ([RFC 9068 section 2.2](https://www.rfc-editor.org/rfc/rfc9068#section-2.2)).
    pub fn client(client_id: impl Into<String>) -> Self {
        let client_id = client_id.into();
        Self { client_id: Some(client_id.clone()), ..Self::subject(client_id) }
    }
}

impl<C> Vouched<C> {
    /// The roles.
    pub fn roles(mut self, roles: impl IntoIterator<Item = impl Into<String>>) -> Self {
        self.roles = roles.into_iter().map(Into::into).collect();
        self
    }

    /// The scopes.
    pub fn scopes(mut self, scopes: Scopes) -> Self {
        self.scopes = scopes;
        self
    }

    /// The app's own claims.
    pub fn own<D>(self, own: D) -> Vouched<D> {
        let Self { subject, client_id, roles, scopes, .. } = self;
        Vouched { subject, client_id, roles, scopes, own }
    }
}

impl<C: Serialize> Vouched<C> {
    /// The caller. Nothing is checked here; whoever calls this has done so.
    ///
    /// # Errors
    /// If the subject is empty, or the own claims are no JSON object or use a registered name.
    pub fn checked(self) -> Result<Checked<C>, VouchError> {
        let Self { subject, client_id, roles, scopes, own } = self;
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
        claims.extend(client_id.map(|client_id| ("client_id".to_owned(), json!(client_id))));
        if !scopes.is_empty() {
            claims.insert("scope".to_owned(), json!(scopes.as_str()));
        }
        let claims = payload::read(Value::Object(claims).to_string().into_bytes(), &Reading::default());
        claims.map(|claims| Checked::new(claims, own, None)).map_err(|detail| wrong(detail.found))
    }
}
