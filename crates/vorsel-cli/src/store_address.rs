//! Which store a command works on.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;
use std::sync::Arc;

use vorsel::store::{MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore, StoreError};

use crate::failure::Failure;

/// Where sessions are kept.
#[derive(Clone)]
pub(crate) enum StoreAddress {
    Memory,
    Sqlite(PathBuf),
    Postgres(String),
    Redis(String),
}

const EXPECTED: &str = "expected memory:, sqlite:PATH, postgres://USER@HOST/DATABASE or redis://HOST";

impl FromStr for StoreAddress {
    type Err = &'static str;

    fn from_str(address: &str) -> Result<Self, &'static str> {
        match address.split_once(':') {
            Some(("memory", "")) => Ok(Self::Memory),
            Some(("sqlite", path)) if !path.is_empty() => Ok(Self::Sqlite(path.into())),
            Some(("postgres" | "postgresql", rest)) if rest.starts_with("//") => Ok(Self::Postgres(address.to_owned())),
            Some(("redis" | "rediss", rest)) if rest.starts_with("//") => Ok(Self::Redis(address.to_owned())),
            _ => Err(EXPECTED),
        }
    }
}

impl StoreAddress {
    pub(crate) async fn open(&self) -> Result<Arc<dyn SessionStore>, Failure> {
        let wrong = |error: StoreError| Failure::from(error).while_doing(self.to_string());
        Ok(match self {
            Self::Memory => Arc::new(MemoryStore::new()),
            Self::Sqlite(path) => Arc::new(SqliteStore::open(path).await.map_err(wrong)?),
            Self::Postgres(url) => Arc::new(PostgresStore::connect(url).await.map_err(wrong)?),
            Self::Redis(url) => Arc::new(RedisStore::connect(url).await.map_err(wrong)?),
        })
    }
}

impl fmt::Display for StoreAddress {
    /// Without what may be a password.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Memory => f.write_str("memory:"),
            Self::Sqlite(path) => path.display().fmt(f),
            Self::Postgres(url) | Self::Redis(url) => match (url.split_once("://"), url.rsplit_once('@')) {
                (Some((scheme, _)), Some((_, place))) => write!(f, "{scheme}://{place}"),
                _ => f.write_str(url),
            },
        }
    }
}

impl fmt::Debug for StoreAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
