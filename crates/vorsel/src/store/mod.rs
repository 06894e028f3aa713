//! Where sessions are kept.

mod contract;
mod memory;
#[cfg(feature = "sqlite")]
mod sqlite;

pub use contract::{SessionStore, StoreError, Which};
pub use memory::MemoryStore;
#[cfg(feature = "sqlite")]
pub use sqlite::SqliteStore;

pub(crate) use contract::ended;
