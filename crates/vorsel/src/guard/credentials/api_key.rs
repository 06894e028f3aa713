//! An API key in a header of the app's choice.

use http::HeaderName;
use vorsel_core::{Credential, Refusal};

use super::source::{Shown, Source};
use crate::guard::request::{RequestHead, Twice, only};

/// A longer API key is not looked up.
const LONGEST: usize = 512;

#[derive(Debug)]
pub(in crate::guard) struct ApiKeyHeader(pub(in crate::guard) HeaderName);

impl Source for ApiKeyHeader {
    fn kind(&self) -> Credential {
        Credential::ApiKey
    }

    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal> {
        let bad = |found: &str| {
            let (header, found) = (self.0.to_string(), found.to_owned());
            Refusal::BadHeader { header, expected: "one API key", found }
        };
        let Some(value) = only(request, &self.0).map_err(|Twice| bad("the header twice"))? else { return Ok(None) };
        match std::str::from_utf8(value) {
            Ok("") => Err(bad("no key")),
            Ok(key) if !key.is_ascii() => Err(bad("bytes that are not ASCII")),
            Err(_) => Err(bad("bytes that are not ASCII")),
            Ok(key) if key.len() > LONGEST => Err(bad("a key of more than 512 bytes")),
            Ok(key) => Ok(Some(Shown::ApiKey(key))),
        }
    }
}
