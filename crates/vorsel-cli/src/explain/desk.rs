//! One way of checking, for one token or for many.

use vorsel::{Timestamp, Verifier};

/// A verifier and the moment it checks for.
pub(super) struct Desk {
    pub(super) verifier: Verifier,
    pub(super) now: Timestamp,
    /// Whether an issuer is expected.
    pub(super) has_issuer: bool,
}
