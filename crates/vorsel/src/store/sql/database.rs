//! What a SQL database has to do for the store that is written on top of it.

use std::fmt;
use std::time::Duration;

use async_trait::async_trait;

use vorsel_core::Timestamp;

use crate::store::contract::{FeedWatch, StoreError};
use crate::store::end::End;
use crate::store::entry::Entry;

/// A database that carries statements out. Parameters are `$1`, `$2` and so on in both dialects.
#[async_trait]
pub(super) trait Database: Clone + fmt::Debug + Send + Sync + 'static {
    type Transaction: Send;
    type Row: Columns + Send;

    /// The statements that forget: entries of the feed whose time is over, then ids that were taken until then, then the sessions that were renewed since they
    /// were last looked at and get another date, then sessions. Each takes a moment and how many are looked at: those that
    /// have been due for longest, so that a step costs the same however many there are.
    const PURGE: [&'static str; 4];

    /// A transaction that writes.
    async fn begin(&self) -> Result<Self::Transaction, sqlx::Error>;

    /// Waits for its turn, which lasts until the transaction is over.
    async fn take_turn(&self, transaction: &mut Self::Transaction, turn: Turn<'_>) -> Result<(), sqlx::Error>;

    async fn commit(&self, transaction: Self::Transaction) -> Result<(), sqlx::Error>;

    /// Undoes it. One that is only dropped is undone too, at a higher price.
    async fn roll_back(&self, transaction: Self::Transaction) -> Result<(), sqlx::Error>;

    /// Carries a statement out within a transaction and gives the rows it returns.
    async fn run(
        &self,
        transaction: &mut Self::Transaction,
        statement: &'static str,
        values: &[Param<'_>],
    ) -> Result<Vec<Self::Row>, sqlx::Error>;

    /// Carries one statement out by itself, one that waits for nobody, and gives the rows it returns.
    async fn ask(&self, statement: &'static str, values: &[Param<'_>]) -> Result<Vec<Self::Row>, sqlx::Error>;

    /// [`ask`](Self::ask) for whoever follows the feed, which goes on however many others ask.
    async fn read_feed(&self, statement: &'static str, values: &[Param<'_>]) -> Result<Vec<Self::Row>, sqlx::Error> {
        self.ask(statement, values).await
    }

    /// Ends sessions and tells of it.
    async fn end(&self, end: End<'_>) -> Result<Option<u64>, sqlx::Error>;

    /// Puts an entry on the feed.
    async fn revoke(&self, entry: Entry<'_>) -> Result<(), sqlx::Error>;

    /// How many rows a statement by itself has changed. It may have to wait for others.
    async fn change(&self, statement: &'static str, values: &[Param<'_>]) -> Result<u64, sqlx::Error>;

    /// Wakes those who wait for the feed, once the transaction is committed.
    async fn wake(&self, transaction: &mut Self::Transaction) -> Result<(), sqlx::Error>;

    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError>;

    /// The moment by a clock of its own.
    async fn time(&self) -> Result<Option<Timestamp>, sqlx::Error> {
        Ok(None)
    }

    /// How often somebody had to wait for a connection, and for how long in all.
    fn waits(&self) -> (u64, Duration) {
        (0, Duration::ZERO)
    }

    /// Whether asking again may help.
    fn is_passing(error: &sqlx::Error) -> bool;

    /// Longer than this nobody waits for an answer: the caller gets an error and may ask again.
    fn answer_within(&self) -> Duration;
}

/// What a transaction takes its turn for.
#[derive(Clone, Copy, Debug)]
pub(super) enum Turn<'t> {
    /// Writing to the feed: so that entries become visible in the order of their places.
    Feed,
    /// Ending these sessions, before it is taken for the feed: whoever has that one waits for nothing more.
    #[cfg_attr(not(feature = "postgres"), expect(dead_code, reason = "SQLite has one writer, whatever it is about"))]
    Sessions(&'t [String]),
    /// Counting the sessions of this subject.
    #[cfg_attr(not(feature = "postgres"), expect(dead_code, reason = "SQLite has one writer, whoever it is about"))]
    Subject(&'t str),
}

/// A parameter of a statement.
#[derive(Clone, Copy, Debug)]
pub(super) enum Param<'v> {
    Text(&'v str),
    Number(i64),
    Bytes(&'v [u8]),
    MaybeText(Option<&'v str>),
    MaybeNumber(Option<i64>),
}

/// The columns of a row by name.
pub(super) trait Columns {
    fn text(&self, column: &str) -> Result<String, sqlx::Error>;
    fn number(&self, column: &str) -> Result<i64, sqlx::Error>;
    fn bytes(&self, column: &str) -> Result<Vec<u8>, sqlx::Error>;
    fn maybe_text(&self, column: &str) -> Result<Option<String>, sqlx::Error>;
    fn maybe_number(&self, column: &str) -> Result<Option<i64>, sqlx::Error>;
}

/// The rows of a database of sqlx, which has no trait for reading columns of any database.
macro_rules! columns_of {
    ($row:ty) => {
        impl $crate::store::sql::database::Columns for $row {
            fn text(&self, column: &str) -> Result<String, sqlx::Error> {
                sqlx::Row::try_get(self, column)
            }

            fn number(&self, column: &str) -> Result<i64, sqlx::Error> {
                sqlx::Row::try_get(self, column)
            }

            fn bytes(&self, column: &str) -> Result<Vec<u8>, sqlx::Error> {
                sqlx::Row::try_get(self, column)
            }

            fn maybe_text(&self, column: &str) -> Result<Option<String>, sqlx::Error> {
                sqlx::Row::try_get(self, column)
            }

            fn maybe_number(&self, column: &str) -> Result<Option<i64>, sqlx::Error> {
                sqlx::Row::try_get(self, column)
            }
        }
    };
}
pub(super) use columns_of;

/// A statement with its parameters, for the same reason a macro.
macro_rules! bound {
    ($statement:expr, $values:expr) => {
        $values.iter().fold(sqlx::query($statement), |query, value| match *value {
            $crate::store::sql::database::Param::Text(text) => query.bind(text),
            $crate::store::sql::database::Param::Number(number) => query.bind(number),
            $crate::store::sql::database::Param::Bytes(bytes) => query.bind(bytes),
            $crate::store::sql::database::Param::MaybeText(text) => query.bind(text),
            $crate::store::sql::database::Param::MaybeNumber(number) => query.bind(number),
        })
    };
}
pub(super) use bound;
