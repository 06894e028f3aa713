//! How many connections there are, and which of them gives way.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::Notify;
use tokio::time::sleep;

/// The connections of a server.
#[derive(Clone)]
pub(super) struct Connections(Arc<All>);

struct All {
    most: usize,
    since: Instant,
    next: AtomicU64,
    open: Mutex<BTreeMap<u64, Arc<Connection>>>,
}

struct Connection {
    /// Requests whose answers are not out yet.
    busy: AtomicUsize,
    /// When it was last busy, in milliseconds.
    busy_at: AtomicU64,
    closes: Notify,
}

/// One connection's place, given up with the last clone of it.
#[derive(Clone)]
pub(super) struct Place(Arc<Held>);

struct Held {
    all: Arc<All>,
    id: u64,
    connection: Arc<Connection>,
}

/// A request under way.
pub(super) struct Busy(Place);

impl Connections {
    pub(super) fn new(most: usize) -> Self {
        let most = most.max(1);
        Self(Arc::new(All { most, since: Instant::now(), next: AtomicU64::new(0), open: Mutex::default() }))
    }

    /// A place for one more. Where there is none, the connection that has been idle for longest gives way; where all are busy, the new one
    /// does.
    pub(super) fn enter(&self) -> Option<Place> {
        let all = &self.0;
        let mut open = all.open.lock().unwrap_or_else(PoisonError::into_inner);
        if open.len() >= all.most {
            let idle = open.iter().filter(|(_, connection)| connection.busy.load(Ordering::Acquire) == 0);
            let (id, _) = idle.min_by_key(|(_, connection)| connection.busy_at.load(Ordering::Relaxed))?;
            let id = *id;
            if let Some(connection) = open.remove(&id) {
                connection.closes.notify_one();
            }
        }
        let connection = Arc::new(Connection {
            busy: AtomicUsize::new(0),
            busy_at: AtomicU64::new(all.now()),
            closes: Notify::new(),
        });
        let id = all.next.fetch_add(1, Ordering::Relaxed);
        open.insert(id, connection.clone());
        Some(Place(Arc::new(Held { all: all.clone(), id, connection })))
    }
}

impl All {
    fn now(&self) -> u64 {
        u64::try_from(self.since.elapsed().as_millis()).unwrap_or(u64::MAX)
    }
}

impl Place {
    /// A request begins.
    pub(super) fn begin(&self) -> Busy {
        self.0.connection.busy.fetch_add(1, Ordering::AcqRel);
        Busy(self.clone())
    }

    /// Returns when the connection is to be closed: another one needs its place, or it has been idle for so long.
    pub(super) async fn gives_way(&self, idle_for: Duration) {
        let Held { all, connection, .. } = &*self.0;
        let longest = u64::try_from(idle_for.as_millis()).unwrap_or(u64::MAX);
        loop {
            tokio::select! {
                () = connection.closes.notified() => return,
                () = sleep(idle_for) => {}
            }
            let idle = all.now().saturating_sub(connection.busy_at.load(Ordering::Relaxed));
            if connection.busy.load(Ordering::Acquire) == 0 && idle >= longest {
                return;
            }
        }
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        let Held { all, connection, .. } = &*self.0.0;
        connection.busy_at.store(all.now(), Ordering::Relaxed);
        connection.busy.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        self.all.open.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.id);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_longest_idle_one_gives_way_and_busy_ones_do_not() {
        let connections = Connections::new(2);
        let first = connections.enter().expect("a place");
        std::thread::sleep(Duration::from_millis(5));
        let second = connections.enter().expect("a place");
        let third = connections.enter().expect("the first gives way");
        first.gives_way(Duration::from_secs(600)).await;
        let (one, other) = (second.begin(), third.begin());
        assert!(connections.enter().is_none(), "both are busy");
        drop((one, first));
        assert!(connections.enter().is_some(), "one is idle again");
        drop((other, second, third));
    }
}
