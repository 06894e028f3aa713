//! The sign-ins that are going on.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::throttle::{Attempt, Who};

/// So many wait for others at most.
pub(super) const MOST_WAITING: usize = 512;

/// How many attempts are going on, by subject and by address.
#[derive(Default)]
pub(super) struct GoingOn {
    hasher: RandomState,
    counts: Mutex<HashMap<u64, u32>>,
}

/// An attempt that is going on.
pub(super) struct Going<'g> {
    all: &'g GoingOn,
    keys: [Option<u64>; 2],
    has_begun: bool,
}

impl<'g> Going<'g> {
    pub(super) fn of(all: &'g GoingOn, attempt: &Attempt<'_>) -> Self {
        let who = attempt.who.map(|who| match who {
            Who::Subject(name) => all.hasher.hash_one(("subject", name)),
            Who::Client(name) => all.hasher.hash_one(("client", name)),
        });
        let address = attempt.address.map(|address| all.hasher.hash_one(("address", address)));
        Self { all, keys: [who, address], has_begun: false }
    }

    pub(super) fn begin(mut self) -> Self {
        let mut counts = self.all.counts();
        self.keys.iter().flatten().for_each(|key| *counts.entry(*key).or_default() += 1);
        drop(counts);
        self.has_begun = true;
        self
    }

    pub(super) fn has_others(&self) -> bool {
        let counts = self.all.counts();
        self.keys.iter().flatten().any(|key| counts.contains_key(key))
    }
}

impl GoingOn {
    fn counts(&self) -> MutexGuard<'_, HashMap<u64, u32>> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Going<'_> {
    fn drop(&mut self) {
        if !self.has_begun {
            return;
        }
        let mut counts = self.all.counts();
        for key in self.keys.iter().flatten() {
            if let Some(count) = counts.get_mut(key) {
                *count -= 1;
                if *count == 0 {
                    counts.remove(key);
                }
            }
        }
    }
}
