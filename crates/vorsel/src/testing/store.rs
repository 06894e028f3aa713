//! The conformance suite of [`SessionStore`]: run [`every_rule`] over an empty store of yours.
//!
//! The functions panic where the store breaks its contract, as an assertion does.

use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{EndReason, Ended, Lifetime, Secret, Session, SessionLimits, Timestamp};

use crate::random::{random_id, session_secret};
use crate::store::{SessionStore, Which};

const START: Timestamp = Timestamp::from_micros(1_700_000_000_123_456);
const LIMITS: SessionLimits =
    SessionLimits { idle: Lifetime::days(14), absolute: Lifetime::days(90), retry_window: Duration::from_secs(10) };

/// Checks every rule of the contract in turn.
///
/// # Panics
/// Where the store breaks a rule.
pub async fn every_rule(store: Arc<dyn SessionStore>) {
    loads_what_was_stored(&*store).await;
    refuses_an_id_that_is_taken(&*store).await;
    advances_only_from_the_generation_before(&*store).await;
    lets_one_of_many_advance(store.clone()).await;
    keeps_ended_sessions_ended(&*store).await;
    lets_no_advance_pass_an_end(store.clone()).await;
    ends_by_subject_and_by_start(&*store).await;
    lists_a_subject_oldest_first(&*store).await;
    purges_in_steps(&*store).await;
}

fn session(subject: &str, at: Timestamp) -> Session {
    let id = random_id().expect("randomness");
    Session::begin(id, session_secret().expect("randomness"), subject, "desk", &LIMITS, at)
}

fn next_of(session: &Session, at: Timestamp) -> Session {
    Session {
        generation: session.generation + 1,
        renewed_at: at,
        idle_until: at.after(LIMITS.idle.as_duration()),
        ..session.clone()
    }
}

async fn stored(store: &dyn SessionStore, subject: &str) -> Session {
    let session = session(subject, START);
    store.insert(&session).await.expect("insert");
    session
}

async fn load(store: &dyn SessionStore, id: &str) -> Session {
    store.load(id).await.expect("load").expect("the session is there")
}

/// A session loads as it was stored, whatever its texts hold.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn loads_what_was_stored(store: &dyn SessionStore) {
    assert_eq!(store.load("nobody").await.expect("load"), None);
    for (subject, device) in [
        ("obs-0017", None),
        ("obs-0017", Some("dome terminal")),
        ("o'brien \"; DROP TABLE x; --", Some("")),
        ("наблюдатель 🔭", Some("line\nbreak\0nul")),
    ] {
        let mut session = session(subject, START);
        session.device = device.map(str::to_owned);
        session.secret = Secret::new((0..=255).collect());
        store.insert(&session).await.expect("insert");
        assert_eq!(load(store, &session.id).await, session);
    }
}

/// A second session of the same id is refused and changes nothing.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn refuses_an_id_that_is_taken(store: &dyn SessionStore) {
    let first = stored(store, "obs-0017").await;
    let second = Session { subject: "dir-0001".to_owned(), ..first.clone() };
    assert!(store.insert(&second).await.is_err());
    assert_eq!(load(store, &first.id).await, first);
}

/// An advance is made from the generation before it and from no other.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn advances_only_from_the_generation_before(store: &dyn SessionStore) {
    let first = stored(store, "obs-0017").await;
    let second = next_of(&first, START.after(Duration::from_micros(1)));
    let third = next_of(&second, START.after(Duration::from_secs(2)));
    assert!(!store.advance(&third).await.expect("advance"), "a generation was skipped");
    assert!(store.advance(&second).await.expect("advance"));
    assert_eq!(load(store, &first.id).await, second);
    assert!(!store.advance(&second).await.expect("advance"), "a generation was taken twice");
    assert!(store.advance(&third).await.expect("advance"));
    assert_eq!(load(store, &first.id).await, third);
    assert!(!store.advance(&session("unknown", START)).await.expect("advance"));
}

/// Of many callers that advance the same generation at once, one gets `true`.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_one_of_many_advance(store: Arc<dyn SessionStore>) {
    const CALLERS: u64 = 64;
    let first = stored(&*store, "obs-0017").await;
    let callers: Vec<_> = (0..CALLERS)
        .map(|caller| {
            let (store, next) = (store.clone(), next_of(&first, START.after(Duration::from_secs(caller))));
            tokio::spawn(async move { store.advance(&next).await.expect("advance").then_some(next) })
        })
        .collect();
    let mut winners = Vec::new();
    for caller in callers {
        winners.extend(caller.await.expect("no panic"));
    }
    assert_eq!(winners.len(), 1, "{} callers advanced the same generation", winners.len());
    assert_eq!(load(&*store, &first.id).await, winners[0]);
}

/// An ended session keeps its first reason and time and is not advanced.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_ended_sessions_ended(store: &dyn SessionStore) {
    for why in EndReason::ALL {
        let session = stored(store, "obs-0017").await;
        let ended = Ended { at: START.after(Duration::from_micros(7)), why };
        assert_eq!(store.end(Which::One(&session.id), ended).await.expect("end"), 1);
        let again = Ended { at: START.after(Duration::from_secs(9)), why: EndReason::Withdrawn };
        assert_eq!(store.end(Which::One(&session.id), again).await.expect("end"), 0);
        assert!(!store.advance(&next_of(&session, START)).await.expect("advance"), "an ended session advanced");
        assert_eq!(load(store, &session.id).await, Session { ended: Some(ended), ..session });
    }
    let nobody = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(store.end(Which::One("nobody"), nobody).await.expect("end"), 0);
}

/// However an end and advances fall together, the session is ended afterwards and every later step says so.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_no_advance_pass_an_end(store: Arc<dyn SessionStore>) {
    for _ in 0..16 {
        let first = stored(&*store, "obs-0017").await;
        let (advancing, next) = (store.clone(), next_of(&first, START));
        let advance = tokio::spawn(async move { advancing.advance(&next).await.expect("advance") });
        let (ending, id) = (store.clone(), first.id.clone());
        let ended = Ended { at: START, why: EndReason::SignedOut };
        let end = tokio::spawn(async move { ending.end(Which::One(&id), ended).await.expect("end") });
        let advanced = advance.await.expect("no panic");
        assert_eq!(end.await.expect("no panic"), 1);
        let session = load(&*store, &first.id).await;
        assert_eq!(session.ended, Some(ended));
        assert_eq!(session.generation, u64::from(advanced));
        let next = next_of(&session, START);
        assert!(!store.advance(&next).await.expect("advance"));
    }
}

/// Sessions end by subject and by the time they started, and no others do.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn ends_by_subject_and_by_start(store: &dyn SessionStore) {
    let long_ago = Timestamp::from_secs(1_600_000_000);
    let early = session("early", long_ago);
    let late = session("late", long_ago.after(Duration::from_micros(1)));
    for session in [&early, &late] {
        store.insert(session).await.expect("insert");
    }
    let ended = Ended { at: START, why: EndReason::Withdrawn };
    assert_eq!(store.end(Which::StartedBefore(long_ago), ended).await.expect("end"), 0);
    assert_eq!(store.end(Which::StartedBefore(late.started_at), ended).await.expect("end"), 1);
    assert_eq!(load(store, &early.id).await.ended, Some(ended));
    assert_eq!(load(store, &late.id).await.ended, None);

    let subject = random_id().expect("randomness");
    let mine = [stored(store, &subject).await, stored(store, &subject).await];
    assert_eq!(store.end(Which::OfSubject(&subject), ended).await.expect("end"), 2);
    for session in &mine {
        assert_eq!(load(store, &session.id).await.ended, Some(ended));
    }
    assert_eq!(load(store, &late.id).await.ended, None);
}

/// The list of a subject has all of its sessions, the oldest first.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lists_a_subject_oldest_first(store: &dyn SessionStore) {
    let subject = random_id().expect("randomness");
    let ages = [5, 1, 3];
    for age in ages {
        store.insert(&session(&subject, START.after(Duration::from_secs(age)))).await.expect("insert");
    }
    let listed = store.of_subject(&subject).await.expect("list");
    let starts: Vec<_> = listed.iter().map(|session| session.started_at.as_secs() - START.as_secs()).collect();
    assert_eq!(starts, [1, 3, 5]);
    assert_eq!(store.of_subject("nobody").await.expect("list"), []);
}

/// Sessions past their time are forgotten in steps of the size asked for; what can still be renewed stays.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn purges_in_steps(store: &dyn SessionStore) {
    let past = Timestamp::from_secs(1_000_000_000);
    for _ in 0..5 {
        store.insert(&session("past", past)).await.expect("insert");
    }
    let alive = stored(store, "obs-0017").await;
    let before = past.after(Duration::from_secs(15 * 86_400));
    for expected in [2, 2, 1, 0] {
        assert_eq!(store.purge(before, 2).await.expect("purge"), expected);
    }
    assert_eq!(load(store, &alive.id).await, alive);
}
