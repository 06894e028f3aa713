//! Sessions to try a store with.

use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{Ended, Facts, Generation, Lifetime, Session, SessionLimits, SignIn, Spent, Timestamp};

use crate::random::session_seed;
use crate::store::{Advanced, End, SessionStore, Which};

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
    Session::begin(session_seed().expect("randomness"), SignIn::new(subject, "desk"), &LIMITS, at)
}

/// The same session but for its facts.
pub(super) fn with_facts(session: &Session, change: impl FnOnce(&mut Facts)) -> Session {
    let mut changed = session.clone();
    change(Arc::make_mut(&mut changed.facts));
    changed
}

pub(super) fn next_of(session: &Session, at: Timestamp) -> Session {
    let Generation { number, began_at, idle_until } = session.current;
    let spent = session.spent.iter().copied().take(Session::MOST_SPENT - 1);
    Session {
        current: Generation { number: number + 1, began_at: at, idle_until: at.after(LIMITS.idle.as_duration()) },
        spent: [Spent { began_at, idle_until }].into_iter().chain(spent).collect(),
        ..session.clone()
    }
}

pub(super) async fn stored(store: &dyn SessionStore, subject: &str) -> Session {
    let session = session(subject, START);
    let _kept = store.insert(&session, None).await.expect("insert");
    session
}

/// Whether the store has moved the session on to the generation that it is in here.
pub(super) async fn advance(store: &dyn SessionStore, next: &Session) -> bool {
    store.advance(&next.id, next.advance()).await.expect("advance") == Advanced::Made
}

pub(super) async fn end(store: &dyn SessionStore, which: Which<'_>, ended: Ended) -> Option<u64> {
    store.end(End { which, ended, until: LATER }).await.expect("end")
}

pub(super) async fn load(store: &dyn SessionStore, id: &str) -> Session {
    store.load(id).await.expect("load").expect("the session is there")
}
