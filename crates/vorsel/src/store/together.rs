//! Renewals that come while others are being written are written together, with the next write: one way to the server
//! and one flush of its disk for all of them.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use vorsel_core::Session;

use super::contract::StoreError;
use super::rows::Renewal;

/// A database that writes several renewals at once.
#[async_trait]
pub(super) trait WriteRenewals: Clone + Send + Sync + 'static {
    /// How many writes may be under way.
    const AT_ONCE: usize;

    /// Makes the compare-and-swap for each of the renewals, no two of which are for the same generation of a session.
    /// Says for each whether it was made.
    async fn write(&self, renewals: &[Renewal]) -> Result<Vec<bool>, StoreError>;
}

/// Collects renewals and writes them.
#[derive(Clone, Debug)]
pub(super) struct Together<D> {
    pub(super) database: D,
    queue: Arc<Mutex<Queue>>,
}

#[derive(Debug, Default)]
struct Queue {
    waiting: Vec<(Renewal, Answer)>,
    writers: usize,
}

type Answer = oneshot::Sender<Result<bool, StoreError>>;

/// A write is no larger, so that no renewal waits long for others.
const MOST_TOGETHER: usize = 64;

impl<D: WriteRenewals> Together<D> {
    pub(super) fn new(database: D) -> Self {
        Self { database, queue: Arc::default() }
    }

    /// [`advance`](super::SessionStore::advance), with the others that come at the same time.
    pub(super) async fn advance(&self, next: &Session) -> Result<bool, StoreError> {
        let (answer, answered) = oneshot::channel();
        if let Some(mut writer) = self.enqueue(Renewal::of(next), answer)
            && let Some(batch) = writer.next_batch()
        {
            // Alone, it goes without the detour; others must not lose their write if this request is broken off.
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
    fn enqueue(&self, renewal: Renewal, answer: Answer) -> Option<Writer<D>> {
        let mut queue = lock(&self.queue);
        queue.waiting.push((renewal, answer));
        (queue.writers < D::AT_ONCE).then(|| {
            queue.writers += 1;
            Writer { together: self.clone(), at_work: true }
        })
    }
}

/// Writes what waits.
struct Writer<D: WriteRenewals> {
    together: Together<D>,
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
        let written = self.together.database.write(&batch.renewals).await;
        for (place, answer) in batch.answers {
            let made = written.as_ref().map(|made| place.is_some_and(|place| made[place])).map_err(Clone::clone);
            // Nobody waits for a renewal whose request was broken off.
            let _ = answer.send(made);
        }
    }

    /// What has come in the meantime. If that is nothing, the writer is done: the next renewal brings its own.
    fn next_batch(&mut self) -> Option<Batch> {
        let mut queue = lock(&self.together.queue);
        let count = queue.waiting.len().min(MOST_TOGETHER);
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
                let mut writer = Self { together: self.together.clone(), at_work: true };
                if let Some(batch) = writer.next_batch() {
                    runtime.spawn(writer.write_all(batch));
                }
            }
            Err(_) => {
                let mut queue = lock(&self.together.queue);
                queue.writers -= 1;
                queue.waiting.clear();
            }
        }
    }
}

struct Batch {
    renewals: Vec<Renewal>,
    /// With the place of its renewal. One that is for the same generation as another has none: whether or not the other is
    /// made, it is not.
    answers: Vec<(Option<usize>, Answer)>,
}

impl Batch {
    fn of(waiting: impl Iterator<Item = (Renewal, Answer)>) -> Self {
        let mut batch = Self { renewals: Vec::new(), answers: Vec::new() };
        for (renewal, answer) in waiting {
            let same = |other: &Renewal| (other.generation, &other.id) == (renewal.generation, &renewal.id);
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
