//! Sessions that this instance has lately begun or renewed, so that their next renewal need not load them first.

use std::fmt;
use std::hash::{BuildHasher, RandomState};
use std::sync::{Mutex, PoisonError};

use vorsel_core::Session;

/// A fixed number of places. What is remembered may be out of date, so it only ever leads to a compare-and-swap, which
/// the store refuses if it is.
pub(super) struct Recent {
    hasher: RandomState,
    places: Box<[Mutex<Option<Session>>]>,
}

/// A place takes up to a kilobyte.
const PLACES: usize = 4_096;

impl Recent {
    pub(super) fn new() -> Self {
        Self { hasher: RandomState::new(), places: (0..PLACES).map(|_| Mutex::new(None)).collect() }
    }

    pub(super) fn remember(&self, session: Session) {
        let mut place = self.place(&session.id).lock().unwrap_or_else(PoisonError::into_inner);
        *place = Some(session);
    }

    /// The session, if it is still remembered. It is taken, not read: of two requests with the same token the second one
    /// loads what the first one made of the session, rather than trying a swap that is bound to lose; and a session that is
    /// found to have ended elsewhere is not remembered for longer.
    pub(super) fn take(&self, id: &str) -> Option<Session> {
        let mut place = self.place(id).lock().unwrap_or_else(PoisonError::into_inner);
        if place.as_ref().is_some_and(|session| session.id == id) { place.take() } else { None }
    }

    fn place(&self, id: &str) -> &Mutex<Option<Session>> {
        &self.places[self.hasher.hash_one(id) as usize % PLACES]
    }
}

impl fmt::Debug for Recent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Recent").finish_non_exhaustive()
    }
}
