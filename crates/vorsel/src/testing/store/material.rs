//! Sessions to try a store with.

use std::time::Duration;

use vorsel_core::{Lifetime, Session, SessionLimits, Spent, Timestamp};

use crate::random::{random_id, session_secret};
use crate::store::SessionStore;

pub(super) const START: Timestamp = Timestamp::from_micros(1_700_000_000_123_456);
const LIMITS: SessionLimits = SessionLimits {
    idle: Lifetime::days(14),
    absolute: Lifetime::days(90),
    retry_window: Duration::from_secs(10),
    per_subject: None,
};
/// Until when entries of the feed are to be remembered.
pub(super) const LATER: Timestamp = Timestamp::from_secs(1_700_100_000);

pub(super) fn session(subject: &str, at: Timestamp) -> Session {
    let id = random_id().expect("randomness");
    Session::begin(id, session_secret().expect("randomness"), subject, "desk", &LIMITS, at)
}

pub(super) fn next_of(session: &Session, at: Timestamp) -> Session {
    let current = Spent { began_at: session.renewed_at, idle_until: session.idle_until };
    Session {
        generation: session.generation + 1,
        renewed_at: at,
        idle_until: at.after(LIMITS.idle.as_duration()),
        spent: [current].into_iter().chain(session.spent.iter().copied()).take(Session::MOST_SPENT).collect(),
        ..session.clone()
    }
}

pub(super) async fn stored(store: &dyn SessionStore, subject: &str) -> Session {
    let session = session(subject, START);
    store.insert(&session, None).await.map(drop).expect("insert");
    session
}

pub(super) async fn load(store: &dyn SessionStore, id: &str) -> Session {
    store.load(id).await.expect("load").expect("the session is there")
}
