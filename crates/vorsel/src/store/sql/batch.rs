//! Renewals that come while others are being written are written together, with the next write: one way to the server
//! and one flush of its disk for all of them.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use tokio::runtime::Handle;
use tokio::sync::oneshot;

use super::rows::{RenewalRow, Swapped};
use crate::store::contract::StoreError;

/// A database that writes several renewals at once.
#[async_trait]
pub(super) trait WriteRenewals: Clone + Send + Sync + 'static {
    /// How many writes may be under way.
    const AT_ONCE: usize;

    /// Makes the compare-and-swap for each of the renewals, no two of which are for the same generation of a session.
    /// Says of each what became of it.
    async fn write(&self, renewals: &[RenewalRow]) -> Result<Vec<Swapped>, StoreError>;
}

/// Collects renewals and writes them.
#[derive(Clone, Debug)]
pub(super) struct Batcher<D> {
    pub(super) database: D,
    queue: Arc<Mutex<Queue>>,
}

#[derive(Debug, Default)]
struct Queue {
    waiting: Vec<(RenewalRow, Answer)>,
    writers: usize,
}

type Answer = oneshot::Sender<Result<Swapped, StoreError>>;

/// A write is no larger, so that no renewal waits long for others.
const LARGEST_BATCH: usize = 64;

impl<D: WriteRenewals> Batcher<D> {
    pub(super) fn new(database: D) -> Self {
        Self { database, queue: Arc::default() }
    }

    /// Makes a renewal, with the others that come at the same time.
    pub(super) async fn advance(&self, next: RenewalRow) -> Result<Swapped, StoreError> {
        let (answer, answered) = oneshot::channel();
        if let Some(mut writer) = self.enqueue(next, answer)
            && let Some(batch) = writer.next_batch()
        {
            // Alone, it is awaited here: a task of its own costs a detour through the scheduler, and if this request is broken
            // off, nobody else's write goes with it. Several are spawned, so that they go on whoever is broken off.
            if batch.answers.len() == 1 {
                writer.write(batch).await;
                writer.hand_over();
            } else {
                tokio::spawn(writer.write_all(batch));
            }
        }
        let given_up = |_| StoreError::new("advance a session", "the write was given up").passing();
        answered.await.map_err(given_up)?
    }

    /// Adds to what waits. A writer, if another may begin.
    fn enqueue(&self, renewal: RenewalRow, answer: Answer) -> Option<Writer<D>> {
        let mut queue = lock(&self.queue);
        queue.waiting.push((renewal, answer));
        (queue.writers < D::AT_ONCE).then(|| {
            queue.writers += 1;
            Writer { batcher: self.clone(), at_work: true }
        })
    }
}

/// Writes what waits.
struct Writer<D: WriteRenewals> {
    batcher: Batcher<D>,
    at_work: bool,
}

impl<D: WriteRenewals> Writer<D> {
    async fn write_all(mut self, first: Batch) {
        let mut next = Some(first);
        while let Some(batch) = next {
            self.write(batch).await;
            tokio::task::yield_now().await;
            next = self.next_batch();
        }
    }

    async fn write(&self, batch: Batch) {
        let written = self.batcher.database.write(&batch.renewals).await;
        for (place, answer) in batch.answers {
            let made =
                written.as_ref().map(|made| place.map_or(Swapped::Lost, |place| made[place])).map_err(Clone::clone);
            // Nobody waits for a renewal whose request was broken off.
            let _ = answer.send(made);
        }
    }

    /// What has come in the meantime. If that is nothing, the writer is done: the next renewal brings its own.
    fn next_batch(&mut self) -> Option<Batch> {
        let mut queue = lock(&self.batcher.queue);
        let count = queue.waiting.len().min(LARGEST_BATCH);
        if count == 0 {
            queue.writers -= 1;
            self.at_work = false;
            return None;
        }
        Some(Batch::of(queue.waiting.drain(..count)))
    }

    /// Leaves what came in the meantime to a task of its own.
    fn hand_over(mut self) {
        if let Some(batch) = self.next_batch() {
            tokio::spawn(self.write_all(batch));
        }
    }
}

impl<D: WriteRenewals> Drop for Writer<D> {
    /// A writer that is broken off leaves its place to another; if the runtime ends, nobody waits for ever.
    fn drop(&mut self) {
        if !self.at_work {
            return;
        }
        match Handle::try_current() {
            Ok(runtime) => {
                let mut writer = Self { batcher: self.batcher.clone(), at_work: true };
                if let Some(batch) = writer.next_batch() {
                    runtime.spawn(writer.write_all(batch));
                }
            }
            Err(_) => {
                let mut queue = lock(&self.batcher.queue);
                queue.writers -= 1;
                queue.waiting.clear();
            }
        }
    }
}

struct Batch {
    renewals: Vec<RenewalRow>,
    /// With the place of its renewal. One that is for the same generation as another has none: whether or not the other is
    /// made, it is not.
    answers: Vec<(Option<usize>, Answer)>,
}

impl Batch {
    fn of(waiting: impl Iterator<Item = (RenewalRow, Answer)>) -> Self {
        let mut batch = Self { renewals: Vec::new(), answers: Vec::new() };
        for (renewal, answer) in waiting {
            let same = |other: &RenewalRow| (other.generation, &other.id) == (renewal.generation, &renewal.id);
            let first = !batch.renewals.iter().any(same);
            batch.answers.push((first.then_some(batch.renewals.len()), answer));
            if first {
                batch.renewals.push(renewal);
            }
        }
        batch
    }
}

fn lock(queue: &Mutex<Queue>) -> MutexGuard<'_, Queue> {
    queue.lock().unwrap_or_else(PoisonError::into_inner)
}
