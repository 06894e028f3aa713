//! A request that was let in without a caller.

use std::sync::Arc;

/// Left by the guard in a request without a caller, so that an extractor can tell it from an unguarded one.
#[derive(Clone, Debug)]
pub(super) struct Anonymous {
    pub(super) realm: Arc<str>,
    pub(super) resource_metadata: Option<Arc<str>>,
}
