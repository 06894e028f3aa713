//! The connection to a Redis server, made anew when it does not answer.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use ::redis::aio::MultiplexedConnection;
use ::redis::{
    AsyncConnectionConfig, Client, Cmd, FromRedisValue, Pipeline, RedisError, RedisResult, ScriptInvocation,
};

use crate::store::waits::Waits;

/// One connection for all who ask. One on which an answer has not come in time is thrown away: it may have fallen silent
/// without an end.
#[derive(Clone)]
pub(super) struct Wire(Arc<Inner>);

struct Inner {
    client: Client,
    answer_within: Duration,
    connect_within: Duration,
    current: Mutex<Option<Numbered>>,
    count: AtomicU64,
    waits: Waits,
    /// Held by whoever connects, with what came of the last attempt that failed.
    connecting: tokio::sync::Mutex<Option<(Instant, RedisError)>>,
}

/// A connection and how many there were before.
#[derive(Clone)]
struct Numbered {
    number: u64,
    connection: MultiplexedConnection,
}

impl Wire {
    pub(super) fn new(client: Client, answer_within: Duration, connect_within: Duration) -> Self {
        let (current, count, connecting) = (Mutex::default(), AtomicU64::new(0), tokio::sync::Mutex::default());
        Self(Arc::new(Inner {
            client,
            answer_within,
            connect_within,
            current,
            count,
            connecting,
            waits: Waits::default(),
        }))
    }

    pub(super) async fn ask<T: FromRedisValue>(&self, command: &Cmd) -> RedisResult<T> {
        let mut wire = self.current().await?;
        let answer = command.query_async(&mut wire.connection).await;
        self.looked_at(wire.number, answer)
    }

    pub(super) async fn ask_all<T: FromRedisValue>(&self, commands: &Pipeline) -> RedisResult<T> {
        let mut wire = self.current().await?;
        // What the server says of the first command that failed is said, as of one that is alone.
        let answer = commands.query_async(&mut wire.connection).await.map_err(|error: RedisError| {
            let first = error.clone().into_server_errors().and_then(|errors| Some(errors.first()?.1.clone()));
            first.map_or(error, RedisError::from)
        });
        self.looked_at(wire.number, answer)
    }

    pub(super) async fn run<T: FromRedisValue>(&self, script: &ScriptInvocation<'_>) -> RedisResult<T> {
        let mut wire = self.current().await?;
        let answer = script.invoke_async(&mut wire.connection).await;
        self.looked_at(wire.number, answer)
    }

    pub(super) async fn connected(&self) -> RedisResult<()> {
        self.current().await.map(drop)
    }

    /// How often somebody had to wait until it was made, and for how long in all.
    pub(super) fn waits(&self) -> (u64, Duration) {
        self.0.waits.so_far()
    }

    /// A connection of the caller's own, whose answers may take any time.
    pub(super) async fn connection_that_waits(&self) -> RedisResult<MultiplexedConnection> {
        self.0.client.get_multiplexed_async_connection_with_config(&self.config().set_response_timeout(None)).await
    }

    fn config(&self) -> AsyncConnectionConfig {
        AsyncConnectionConfig::new()
            .set_connection_timeout(Some(self.0.connect_within))
            .set_response_timeout(Some(self.0.answer_within))
    }

    async fn current(&self) -> RedisResult<Numbered> {
        if let Some(current) = self.slot().clone() {
            return Ok(current);
        }
        // In a box: each question would have room for it.
        Box::pin(self.connect()).await
    }

    async fn connect(&self) -> RedisResult<Numbered> {
        let asked_at = Instant::now();
        let _waiting = self.0.waits.begin();
        let mut failed = self.0.connecting.lock().await;
        // Somebody else has connected meanwhile, or tried to: each attempt answers all who waited for it.
        if let Some(current) = self.slot().clone() {
            return Ok(current);
        }
        if let Some((at, error)) = &*failed
            && *at > asked_at
        {
            return Err(error.clone());
        }
        match self.0.client.get_multiplexed_async_connection_with_config(&self.config()).await {
            Ok(connection) => {
                let mut slot = self.slot();
                let numbered = Numbered { number: self.0.count.fetch_add(1, Ordering::Relaxed), connection };
                *slot = Some(numbered.clone());
                Ok(numbered)
            }
            Err(error) => {
                *failed = Some((Instant::now(), error.clone()));
                Err(error)
            }
        }
    }

    /// A server that is not the primary any more is asked for by its name again, which may lead to another one now.
    fn looked_at<T>(&self, number: u64, answer: RedisResult<T>) -> RedisResult<T> {
        if let Err(error) = &answer
            && (error.is_timeout()
                || error.is_io_error()
                || error.is_connection_dropped()
                || matches!(error.code(), Some("READONLY" | "MASTERDOWN")))
        {
            let mut slot = self.slot();
            if slot.as_ref().is_some_and(|current| current.number == number) {
                *slot = None;
            }
        }
        answer
    }

    fn slot(&self) -> MutexGuard<'_, Option<Numbered>> {
        self.0.current.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
