//! Writes that come while others are being written are written together, with the next one: one way to the server and one
//! flush of its disk for all of them.

use std::fmt;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use async_trait::async_trait;
use tokio::runtime::Handle;
use tokio::sync::oneshot;

use crate::store::contract::StoreError;

/// Writes several items at once.
#[async_trait]
pub(super) trait WriteTogether: Clone + Send + Sync + 'static {
    type Item: Send + Sync + 'static;
    type Outcome: Copy + Send + Sync + 'static;

    /// How many writes may be under way.
    const AT_ONCE: usize;
    /// What a write does, for errors.
    const ACTION: &'static str;

    /// Whether two items are not written together.
    fn are_alike(one: &Self::Item, other: &Self::Item) -> bool;

    /// What becomes of an item when this has become of one that is like it.
    fn like_another(outcome: Self::Outcome) -> Self::Outcome;

    /// Writes items, no two of which are alike. Says of each what became of it.
    async fn write(&self, items: &[Self::Item]) -> Result<Vec<Self::Outcome>, StoreError>;
}

/// Collects items and writes them.
#[derive(Clone)]
pub(super) struct Batcher<W: WriteTogether> {
    to: W,
    queue: Arc<Mutex<Queue<W>>>,
}

struct Queue<W: WriteTogether> {
    waiting: Vec<(W::Item, Answer<W>)>,
    writers: usize,
}

type Answer<W> = oneshot::Sender<Result<<W as WriteTogether>::Outcome, StoreError>>;

/// A write is no larger, so that nobody waits long for others.
const LARGEST_BATCH: usize = 64;

impl<W: WriteTogether> fmt::Debug for Batcher<W> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Batcher").finish_non_exhaustive()
    }
}

impl<W: WriteTogether> Batcher<W> {
    pub(super) fn new(to: W) -> Self {
        let queue = Queue { waiting: Vec::new(), writers: 0 };
        Self { to, queue: Arc::new(Mutex::new(queue)) }
    }

    /// Writes an item, with the others that come at the same time.
    pub(super) async fn write(&self, item: W::Item) -> Result<W::Outcome, StoreError> {
        let (answer, answered) = oneshot::channel();
        if let Some(mut writer) = self.enqueue(item, answer)
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
        let given_up = |_| StoreError::new(W::ACTION, "the write was given up").passing();
        answered.await.map_err(given_up)?
    }

    /// Adds to what waits. A writer, if another may begin.
    fn enqueue(&self, item: W::Item, answer: Answer<W>) -> Option<Writer<W>> {
        let mut queue = lock(&self.queue);
        queue.waiting.push((item, answer));
        (queue.writers < W::AT_ONCE).then(|| {
            queue.writers += 1;
            Writer { batcher: self.clone(), at_work: true }
        })
    }
}

/// Writes what waits.
struct Writer<W: WriteTogether> {
    batcher: Batcher<W>,
    at_work: bool,
}

impl<W: WriteTogether> Writer<W> {
    async fn write_all(mut self, first: Batch<W>) {
        let mut next = Some(first);
        while let Some(batch) = next {
            self.write(batch).await;
            tokio::task::yield_now().await;
            next = self.next_batch();
        }
    }

    async fn write(&self, batch: Batch<W>) {
        let written = self.batcher.to.write(&batch.items).await;
        for (place, is_first, answer) in batch.answers {
            let of = |outcome| if is_first { outcome } else { W::like_another(outcome) };
            // Nobody waits for an item whose request was broken off.
            let _ = answer.send(written.as_ref().map(|outcomes| of(outcomes[place])).map_err(Clone::clone));
        }
    }

    /// What has come in the meantime. If that is nothing, the writer is done: the next item brings its own.
    fn next_batch(&mut self) -> Option<Batch<W>> {
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

impl<W: WriteTogether> Drop for Writer<W> {
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

struct Batch<W: WriteTogether> {
    items: Vec<W::Item>,
    /// With the place of its item, and whether it is the first: one that is like another has that one's place.
    answers: Vec<(usize, bool, Answer<W>)>,
}

impl<W: WriteTogether> Batch<W> {
    fn of(waiting: impl Iterator<Item = (W::Item, Answer<W>)>) -> Self {
        let mut batch = Self { items: Vec::new(), answers: Vec::new() };
        for (item, answer) in waiting {
            let like = batch.items.iter().position(|other| W::are_alike(other, &item));
            batch.answers.push((like.unwrap_or(batch.items.len()), like.is_none(), answer));
            if like.is_none() {
                batch.items.push(item);
            }
        }
        batch
    }
}

fn lock<W: WriteTogether>(queue: &Mutex<Queue<W>>) -> MutexGuard<'_, Queue<W>> {
    queue.lock().unwrap_or_else(PoisonError::into_inner)
}
