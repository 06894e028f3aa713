//! Where sessions are kept, and the feed of what was revoked.

mod contract;
mod memory;
#[cfg(feature = "postgres")]
mod postgres;
#[cfg(any(feature = "postgres", feature = "redis", feature = "sqlite"))]
mod record;
#[cfg(feature = "redis")]
mod redis;
#[cfg(any(feature = "postgres", feature = "sqlite"))]
mod rows;
#[cfg(feature = "sqlite")]
mod sqlite;
#[cfg(any(feature = "postgres", feature = "sqlite"))]
mod together;

pub use contract::{Cursor, FeedPage, FeedWatch, Inserted, Room, SessionStore, StoreError, Which};
pub use memory::MemoryStore;
#[cfg(feature = "postgres")]
pub use postgres::PostgresStore;
#[cfg(feature = "redis")]
pub use redis::RedisStore;
#[cfg(feature = "sqlite")]
pub use sqlite::SqliteStore;
