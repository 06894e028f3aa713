//! Where sessions are kept, and the feed of what was revoked.

mod address;
mod contract;
mod end;
mod entry;
mod memory;
#[cfg(any(feature = "postgres", feature = "redis", feature = "sqlite"))]
mod record;
#[cfg(feature = "redis")]
mod redis;
#[cfg(any(feature = "postgres", feature = "sqlite"))]
mod sql;
#[cfg(any(feature = "postgres", feature = "redis"))]
mod waits;

pub use address::{StoreAddress, StoreAddressError, StoreOptions};
pub use contract::{Advanced, Cursor, FeedPage, FeedWatch, Kept, Purged, SessionStore, StoreError, StoreFigures};
pub use end::{Cap, End, Inserted, Mark, Which};
pub use memory::MemoryStore;
#[cfg(feature = "redis")]
pub use redis::{RedisSettings, RedisStore};
#[cfg(feature = "postgres")]
pub use sql::{PostgresSettings, PostgresStore};
#[cfg(feature = "sqlite")]
pub use sql::{SqliteSettings, SqliteStore};
