//! Who we are where we ask for something.

use std::sync::Arc;

use reqwest::RequestBuilder;
use vorsel_core::{Keyring, client_assertion, with_causes};
use zeroize::Zeroizing;

use crate::clock;
use crate::random::random_id;

/// A client of ours, as an issuer knows it.
#[derive(Clone)]
pub(crate) struct OwnClient {
    pub(crate) id: String,
    pub(crate) proof: Proof,
}

/// How it shows that it is the one.
#[derive(Clone)]
pub(crate) enum Proof {
    /// A public client can't.
    #[cfg(feature = "client")]
    Nothing,
    /// By header ([RFC 6749 section 2.3.1](https://www.rfc-editor.org/rfc/rfc6749#section-2.3.1)).
    Secret(Zeroizing<String>),
    /// It signs an assertion ([RFC 7523 section 3](https://www.rfc-editor.org/rfc/rfc7523#section-3)).
    Key(Arc<Keyring>),
}

/// Parameters of a form, or members of an object.
pub(crate) type Parameters = Vec<(&'static str, String)>;

const ASSERTION: &str = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";

impl OwnClient {
    pub(crate) fn with_secret(id: impl Into<String>, secret: impl Into<String>) -> Self {
        Self { id: id.into(), proof: Proof::Secret(Zeroizing::new(secret.into())) }
    }

    pub(crate) fn with_key(id: impl Into<String>, key: impl Into<Keyring>) -> Self {
        Self { id: id.into(), proof: Proof::Key(Arc::new(key.into())) }
    }

    /// The request to this endpoint with what shows the client, and what is to be added to its body.
    ///
    /// # Errors
    /// If nothing can be signed.
    pub(crate) fn shown(
        &self,
        request: RequestBuilder,
        endpoint: &str,
    ) -> Result<(RequestBuilder, Parameters), String> {
        match &self.proof {
            #[cfg(feature = "client")]
            Proof::Nothing => Ok((request, vec![("client_id", self.id.clone())])),
            // The parts of the header are encoded by themselves.
            Proof::Secret(secret) => Ok((request.basic_auth(encoded(&self.id), Some(encoded(secret))), Vec::new())),
            Proof::Key(keys) => {
                let id = random_id().map_err(|error| error.to_string())?;
                // Of this machine's time: the issuer looks at its own clock.
                let signed = client_assertion(&self.id, Keyring::clone(keys), endpoint, &id, clock::now());
                let signed = signed.map_err(|error| with_causes(&error))?;
                Ok((request, vec![("client_assertion_type", ASSERTION.to_owned()), ("client_assertion", signed)]))
            }
        }
    }
}

/// A part of a Basic header ([RFC 6749 section 2.3.1](https://www.rfc-editor.org/rfc/rfc6749#section-2.3.1)).
fn encoded(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(char::from(byte)),
            b' ' => encoded.push('+'),
            other => encoded.push_str(&format!("%{other:02X}")),
        }
    }
    encoded
}
