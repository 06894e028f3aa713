//! Connections to a PostgreSQL server, lent to one caller at a time.
//!
//! A pool of sqlx asks a connection that comes back whether it still works, and waits for that without an end: one that has
//! fallen silent takes its place with it. Here a connection comes back only after an answer; every other one is thrown away.

use std::fmt;
use std::mem;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use sqlx::postgres::PgConnection;
use sqlx::{Connection, Executor};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::timeout;

use super::hosts::Hosts;
use crate::store::waits::Waits;

/// A connection that answered so short a time ago is taken to work.
const FRESH: Duration = Duration::from_secs(1);
/// One that has not been used for longer is asked, and has this long for its answer.
const ANSWER_WITHIN: Duration = Duration::from_secs(1);
/// One that nobody has needed for so long is closed.
const IDLE_FOR: Duration = Duration::from_secs(600);
/// None is kept for longer: a server's processes grow with what they have seen.
const LASTING: Duration = Duration::from_secs(1_800);

/// Lends connections, so many at once.
#[derive(Clone)]
pub(super) struct Lender(Arc<Inner>);

struct Inner {
    hosts: Arc<Hosts>,
    /// Statements that each connection begins with.
    first: String,
    size: u32,
    places: Arc<Semaphore>,
    idle: Mutex<Idle>,
    waits: Waits,
}

#[derive(Default)]
struct Idle {
    /// The one that was used last is lent first.
    connections: Vec<Kept>,
    /// When one was last thrown away: what has not been used since is asked before it is lent.
    suspect_since: Option<Instant>,
}

struct Kept {
    connection: PgConnection,
    made_at: Instant,
    used_at: Instant,
}

/// A connection that is in use. It is thrown away unless it is given back.
pub(crate) struct Lent {
    kept: Option<Kept>,
    lender: Lender,
    _place: OwnedSemaphorePermit,
}

impl Lender {
    pub(super) fn new(hosts: Arc<Hosts>, first: String, size: u32) -> Self {
        let places = Arc::new(Semaphore::new(size as usize));
        Self(Arc::new(Inner { hosts, first, size, places, idle: Mutex::default(), waits: Waits::default() }))
    }

    /// A connection that works, as far as that can be known. It may take long: the caller sets the end.
    pub(super) async fn lend(&self) -> Result<Lent, sqlx::Error> {
        let place = match self.0.places.clone().try_acquire_owned() {
            Ok(place) => place,
            Err(_) => {
                let _waiting = self.0.waits.begin();
                self.0.places.clone().acquire_owned().await.map_err(|_| sqlx::Error::PoolClosed)?
            }
        };
        let mut lent = Lent { kept: None, lender: self.clone(), _place: place };
        while let Some((mut kept, is_sure)) = self.kept() {
            if is_sure || matches!(timeout(ANSWER_WITHIN, kept.connection.ping()).await, Ok(Ok(()))) {
                lent.kept = Some(kept);
                return Ok(lent);
            }
            // What became of one has become of those that have been idle for longer.
            self.idle().connections.clear();
        }
        let (mut connection, _) = self.0.hosts.connect().await?;
        connection.execute(sqlx::raw_sql(sqlx::AssertSqlSafe(self.0.first.clone()))).await?;
        let now = Instant::now();
        lent.kept = Some(Kept { connection, made_at: now, used_at: now });
        Ok(lent)
    }

    /// The connection that was used last, and whether it need not be asked.
    fn kept(&self) -> Option<(Kept, bool)> {
        let mut idle = self.idle();
        let kept = idle.connections.pop()?;
        let is_suspect = idle.suspect_since.is_some_and(|since| kept.used_at <= since);
        let is_sure = !is_suspect && kept.used_at.elapsed() < FRESH;
        Some((kept, is_sure))
    }

    fn idle(&self) -> MutexGuard<'_, Idle> {
        self.0.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How often somebody had to wait, and for how long in all.
    pub(super) fn waits(&self) -> (u64, Duration) {
        self.0.waits.so_far()
    }

    /// Lends no more, waits for what is in use, and closes the connections.
    pub(super) async fn close(&self) {
        let _all = self.0.places.acquire_many(self.0.size).await;
        self.0.places.close();
        let connections = mem::take(&mut self.idle().connections);
        for kept in connections {
            let _ = timeout(ANSWER_WITHIN, kept.connection.close()).await;
        }
    }
}

impl Lent {
    pub(super) fn connection(&mut self) -> &mut PgConnection {
        let kept = self.kept.as_mut().expect("it is there until it is given back");
        &mut kept.connection
    }

    /// Gives it back if it has answered: with what was asked for, or with an error of the server's own, but not if that server
    /// is stopping (57P) or only reads (25006), as a primary does that is none any more.
    pub(super) fn given_back_after<T>(self, answer: Result<T, sqlx::Error>) -> Result<T, sqlx::Error> {
        let is_sound = match &answer {
            Ok(_) => true,
            Err(sqlx::Error::Database(error)) => {
                !error.code().is_some_and(|code| code.starts_with("57P") || code == "25006")
            }
            Err(_) => false,
        };
        if is_sound {
            self.given_back();
        }
        answer
    }

    pub(super) fn given_back(mut self) {
        let Some(mut kept) = self.kept.take() else { return };
        if kept.made_at.elapsed() > LASTING {
            return;
        }
        kept.used_at = Instant::now();
        let mut idle = self.lender.idle();
        idle.connections.push(kept);
        // The first ones have been idle for longest.
        idle.connections.retain(|kept| kept.used_at.elapsed() < IDLE_FOR);
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        if self.kept.take().is_some() {
            self.lender.idle().suspect_since = Some(Instant::now());
        }
    }
}

impl fmt::Debug for Lender {
    /// The address may hold a password.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Lender").field("size", &self.0.size).finish_non_exhaustive()
    }
}
