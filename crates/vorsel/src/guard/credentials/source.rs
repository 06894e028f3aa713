//! What a source of credentials does.

use std::fmt;

use vorsel_core::{Credential, Finding, Proven, Refusal};

use crate::guard::request::RequestHead;

/// A place in a request where a credential may stand.
pub(in crate::guard) trait Source: fmt::Debug + Send + Sync {
    /// What rules call a credential from here.
    fn kind(&self) -> Credential;

    /// What is shown here, if anything.
    fn find<'r>(&self, request: &'r dyn RequestHead) -> Result<Option<Shown<'r>>, Refusal>;

    /// Whether a browser sends it of its own accord, wherever the request was made.
    fn comes_unasked(&self) -> bool {
        false
    }

    /// Why a token from here was refused, which the source may know better than whoever checked it.
    fn explain(&self, token: &[u8], finding: Box<Finding>) -> Refusal {
        let _ = token;
        Refusal::BadToken(finding)
    }
}

/// What a source has found.
#[derive(Clone, Copy, Debug)]
pub(in crate::guard) enum Shown<'r> {
    /// An access token, and what its sender has proven.
    Token(&'r [u8], Proven<'r>),
    /// An API key.
    ApiKey(&'r str),
    /// A ticket.
    Ticket(&'r str),
}
