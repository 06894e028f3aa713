//! What can go wrong with the making of a ticket.

use crate::random::RandomError;
use crate::store::StoreError;

pub(super) const LONGEST_PATH: usize = 1_024;
pub(super) const LARGEST_TOKEN: usize = 4_096;

/// Why no ticket was made.
///
/// ```
/// # #[tokio::main]
/// # async fn main() -> Result<(), Box<dyn std::error::Error>> {
/// use std::sync::Arc;
/// use vorsel::store::MemoryStore;
/// use vorsel::{TicketError, Tickets};
///
/// let ticket = Tickets::new(Arc::new(MemoryStore::new())).ticket("a token", "no path", vorsel::now()).await;
/// assert!(matches!(ticket, Err(TicketError::Path)));
/// # Ok(())
/// # }
/// ```
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum TicketError {
    /// A path is what it is good for.
    #[error(
        "expected a path such as /dome/live, of at most {} visible characters and without a query, but found another text",
        LONGEST_PATH
    )]
    Path,
    /// The token is too large.
    #[error("expected an access token of at most {} bytes, but found {found}", LARGEST_TOKEN)]
    Token {
        /// Its size in bytes.
        found: usize,
    },
    /// The store has something else in the place of the key.
    #[error("expected 32 bytes in the store under the name ticket-key, but found others")]
    OtherKey,
    /// A primitive has failed.
    #[error("the ticket could not be sealed")]
    Primitive,
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The operating system gave no randomness.
    #[error(transparent)]
    Random(#[from] RandomError),
}
