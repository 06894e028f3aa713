//! What the handlers share.

use std::sync::Arc;

use vorsel::Sessions;

use super::people::People;
use super::staff::Staff;

/// What the handlers share.
pub(super) struct Observatory {
    pub(super) people: Arc<People>,
    pub(super) sessions: Arc<Sessions<Staff>>,
}
