//! Sessions in SQL databases: what both say in the same words is said here once.

mod batch;
mod database;
#[cfg(feature = "postgres")]
mod postgres;
mod rows;
#[cfg(feature = "sqlite")]
mod sqlite;
mod store;

#[cfg(feature = "postgres")]
pub use postgres::{PostgresSettings, PostgresStore};
#[cfg(feature = "sqlite")]
pub use sqlite::{SqliteSettings, SqliteStore};
