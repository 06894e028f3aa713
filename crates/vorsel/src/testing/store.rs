//! The conformance suite of [`SessionStore`]: run [`every_rule`] over an empty store of yours.
//!
//! The functions panic where the store breaks its contract, as an assertion does.

use std::collections::BTreeSet;
use std::num::NonZeroU32;
use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{
    Beyond, EndReason, Ended, Lifetime, PerSubject, Revocation, Revoked, Secret, Session, SessionLimits, Spent,
    Timestamp,
};

use crate::random::{random_id, session_secret};
use crate::store::{Cursor, Inserted, Room, SessionStore, Which};

const START: Timestamp = Timestamp::from_micros(1_700_000_000_123_456);
const LIMITS: SessionLimits = SessionLimits {
    idle: Lifetime::days(14),
    absolute: Lifetime::days(90),
    retry_window: Duration::from_secs(10),
    per_subject: None,
};
/// Until when entries of the feed are to be remembered.
const LATER: Timestamp = Timestamp::from_secs(1_700_100_000);

/// Checks every rule of the contract in turn.
///
/// # Panics
/// Where the store breaks a rule.
pub async fn every_rule(store: Arc<dyn SessionStore>) {
    loads_what_was_stored(&*store).await;
    refuses_an_id_that_is_taken(&*store).await;
    advances_only_from_the_generation_before(&*store).await;
    lets_one_of_many_advance(store.clone()).await;
    keeps_advances_at_once_apart(store.clone()).await;
    answers_whoever_still_waits(store.clone()).await;
    keeps_ended_sessions_ended(&*store).await;
    lets_no_advance_pass_an_end(store.clone()).await;
    ends_by_subject_and_by_start(&*store).await;
    lists_a_subject_oldest_first(&*store).await;
    lists_all_in_pages(&*store).await;
    keeps_to_the_room_of_a_subject(&*store).await;
    lets_no_more_in_than_there_is_room_for(store.clone()).await;
    tells_of_every_end(&*store).await;
    feeds_whatever_is_revoked(&*store).await;
    misses_nothing_on_the_feed(store.clone()).await;
    wakes_whoever_watches_the_feed(&*store).await;
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
        spent: vec![Spent { began_at: session.renewed_at, idle_until: session.idle_until }],
        ..session.clone()
    }
}

async fn stored(store: &dyn SessionStore, subject: &str) -> Session {
    let session = session(subject, START);
    store.insert(&session, None).await.map(drop).expect("insert");
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
        ("наблюдатель 🔭", Some("line\nbreak")),
    ] {
        let mut session = session(subject, START);
        session.device = device.map(str::to_owned);
        session.acr = device.map(str::to_owned);
        session.spent =
            (0..3).map(|age| Spent { began_at: START, idle_until: START.after(Duration::from_secs(age)) }).collect();
        session.secret = Secret::new((0..=255).collect());
        store.insert(&session, None).await.map(drop).expect("insert");
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
    assert!(store.insert(&second, None).await.is_err());
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

/// Advances of different sessions at the same time have nothing to do with each other: each is made or not by its own
/// session, and as its caller wrote it.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_advances_at_once_apart(store: Arc<dyn SessionStore>) {
    const SESSIONS: u64 = 40;
    let mut callers = Vec::new();
    for number in 0..SESSIONS {
        let at = START.after(Duration::from_secs(number));
        let first = stored(&*store, &format!("obs-{number:04}")).await;
        let next = next_of(&first, at);
        let (tried, expected) = match number % 4 {
            0 => (next_of(&next, at), None),
            1 => {
                let ended = Ended { at, why: EndReason::SignedOut };
                assert_eq!(store.end(Which::One(&first.id), ended, LATER).await.expect("end"), 1);
                (next, None)
            }
            _ => (next.clone(), Some(next)),
        };
        let store = store.clone();
        callers.push(tokio::spawn(async move {
            let advanced = store.advance(&tried).await.expect("advance");
            let kept = load(&*store, &first.id).await;
            assert_eq!(advanced, expected.is_some(), "session {number}");
            assert_eq!(kept.generation, u64::from(advanced));
            assert!(expected.is_none_or(|expected| kept == expected), "session {number} is another's");
        }));
    }
    for caller in callers {
        caller.await.expect("no panic");
    }
}

/// When some of those that advance at the same time are broken off, the others get their answers, and what a caller was
/// told is so.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn answers_whoever_still_waits(store: Arc<dyn SessionStore>) {
    for delay in 0..24 {
        let mut callers = Vec::new();
        for _ in 0..12 {
            let first = stored(&*store, "obs-0017").await;
            let (store, next) = (store.clone(), next_of(&first, START));
            callers.push((first.id, tokio::spawn(async move { store.advance(&next).await })));
        }
        tokio::time::sleep(Duration::from_micros(delay * 40)).await;
        for (_, caller) in callers.iter().step_by(3) {
            caller.abort();
        }
        for (id, caller) in callers {
            let waited = tokio::time::timeout(Duration::from_secs(60), caller).await.expect("an answer");
            let kept = load(&*store, &id).await.generation;
            match waited {
                Ok(answer) => assert_eq!((answer.expect("advance"), kept), (true, 1)),
                Err(broken_off) => assert!(broken_off.is_cancelled() && kept <= 1),
            }
        }
    }
}

/// An ended session keeps its first reason and time and is not advanced.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_ended_sessions_ended(store: &dyn SessionStore) {
    for why in EndReason::ALL {
        let session = stored(store, "obs-0017").await;
        let ended = Ended { at: START.after(Duration::from_micros(7)), why };
        assert_eq!(store.end(Which::One(&session.id), ended, LATER).await.expect("end"), 1);
        let again = Ended { at: START.after(Duration::from_secs(9)), why: EndReason::Withdrawn };
        assert_eq!(store.end(Which::One(&session.id), again, LATER).await.expect("end"), 0);
        assert!(!store.advance(&next_of(&session, START)).await.expect("advance"), "an ended session advanced");
        assert_eq!(load(store, &session.id).await, Session { ended: Some(ended), ..session });
    }
    let nobody = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(store.end(Which::One("nobody"), nobody, LATER).await.expect("end"), 0);
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
        let end = tokio::spawn(async move { ending.end(Which::One(&id), ended, LATER).await.expect("end") });
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
        store.insert(session, None).await.map(drop).expect("insert");
    }
    let ended = Ended { at: START, why: EndReason::Withdrawn };
    assert_eq!(store.end(Which::StartedBefore(long_ago), ended, LATER).await.expect("end"), 0);
    assert_eq!(store.end(Which::StartedBefore(late.started_at), ended, LATER).await.expect("end"), 1);
    assert_eq!(load(store, &early.id).await.ended, Some(ended));
    assert_eq!(load(store, &late.id).await.ended, None);

    let subject = random_id().expect("randomness");
    let mine = [stored(store, &subject).await, stored(store, &subject).await];
    assert_eq!(store.end(Which::OfSubject(&subject), ended, LATER).await.expect("end"), 2);
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
        store.insert(&session(&subject, START.after(Duration::from_secs(age))), None).await.map(drop).expect("insert");
    }
    let listed = store.of_subject(&subject).await.expect("list");
    let starts: Vec<_> = listed.iter().map(|session| session.started_at.as_secs() - START.as_secs()).collect();
    assert_eq!(starts, [1, 3, 5]);
    assert_eq!(store.of_subject("nobody").await.expect("list"), []);
}

/// Pages follow each other in the order of ids, each session once.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lists_all_in_pages(store: &dyn SessionStore) {
    let mut mine = BTreeSet::new();
    for _ in 0..5 {
        mine.insert(stored(store, "obs-0017").await.id);
    }
    let (mut seen, mut after) = (Vec::new(), None::<String>);
    loop {
        let page = store.page(after.as_deref(), 2).await.expect("a page");
        assert!(page.len() <= 2);
        let Some(last) = page.last() else { break };
        after = Some(last.id.clone());
        seen.extend(page.into_iter().map(|session| session.id));
    }
    assert!(seen.is_sorted_by(|one, next| one < next), "{seen:?}");
    assert!(mine.iter().all(|id| seen.contains(id)));
}

fn room(most: u32, beyond: Beyond) -> Room {
    let most = NonZeroU32::new(most).expect("room for one");
    Room { limit: PerSubject { most, beyond }, now: START.after(Duration::from_secs(100)), until: LATER }
}

/// A limit refuses, or ends the oldest; sessions that are over do not count.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_to_the_room_of_a_subject(store: &dyn SessionStore) {
    let subject = random_id().expect("randomness");
    let begun = |age| session(&subject, START.after(Duration::from_secs(age)));
    let sessions: Vec<_> = (0..5).map(begun).collect();
    let insert = async |session: &Session, room| store.insert(session, Some(room)).await.expect("insert");
    let kept = |displaced| Inserted::Kept { displaced };
    assert_eq!(insert(&sessions[0], room(2, Beyond::Refuse)).await, kept(0));
    assert_eq!(insert(&sessions[1], room(2, Beyond::Refuse)).await, kept(0));
    assert_eq!(insert(&sessions[2], room(2, Beyond::Refuse)).await, Inserted::Full);
    assert_eq!(store.load(&sessions[2].id).await.expect("load"), None);
    assert_eq!(insert(&session("somebody else", START), room(1, Beyond::Refuse)).await, kept(0));
    let signed_out = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(store.end(Which::One(&sessions[0].id), signed_out, LATER).await.expect("end"), 1);
    assert_eq!(insert(&sessions[2], room(2, Beyond::Refuse)).await, kept(0));

    let before = feed_end(store).await;
    assert_eq!(insert(&sessions[3], room(2, Beyond::EndOldest)).await, kept(1));
    assert_eq!(insert(&sessions[4], room(1, Beyond::EndOldest)).await, kept(2), "the limit was lowered");
    let ended = Some(Ended { at: room(1, Beyond::EndOldest).now, why: EndReason::Displaced });
    for (session, ended) in sessions.iter().zip([Some(signed_out), ended, ended, ended, None]) {
        assert_eq!(load(store, &session.id).await.ended, ended);
    }
    let told: Vec<_> = [1, 2, 3].map(|index: usize| of_session(&sessions[index].id)).into();
    assert_eq!(feed_after(store, before.as_ref()).await, told);
}

/// However many sign in at once, no more get in than there is room for.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_no_more_in_than_there_is_room_for(store: Arc<dyn SessionStore>) {
    let subject = random_id().expect("randomness");
    let callers: Vec<_> = (0..32)
        .map(|age| {
            let (store, session) = (store.clone(), session(&subject, START.after(Duration::from_secs(age))));
            tokio::spawn(async move { store.insert(&session, Some(room(3, Beyond::Refuse))).await.expect("insert") })
        })
        .collect();
    let mut kept = 0;
    for caller in callers {
        kept += u32::from(caller.await.expect("no panic") != Inserted::Full);
    }
    assert_eq!(kept, 3);
    assert_eq!(store.of_subject(&subject).await.expect("list").len(), 3);
}

fn of_session(id: &str) -> Revocation {
    Revocation { what: Revoked::Session(id.to_owned()), until: LATER }
}

async fn feed_after(store: &dyn SessionStore, after: Option<&Cursor>) -> Vec<Revocation> {
    let (mut entries, mut cursor) = (Vec::new(), after.cloned());
    loop {
        let page = store.feed(cursor.as_ref(), 3).await.expect("a page of the feed");
        if page.entries.is_empty() {
            return entries;
        }
        assert!(page.entries.len() <= 3 && page.cursor != cursor);
        entries.extend(page.entries);
        cursor = page.cursor;
    }
}

async fn feed_end(store: &dyn SessionStore) -> Option<Cursor> {
    let mut cursor = None;
    loop {
        let page = store.feed(cursor.as_ref(), 100).await.expect("a page of the feed");
        if page.entries.is_empty() {
            return cursor;
        }
        cursor = page.cursor;
    }
}

/// Whatever ends a session puts it on the feed; what ends nothing does not.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn tells_of_every_end(store: &dyn SessionStore) {
    let subject = random_id().expect("randomness");
    let one = stored(store, "obs-0017").await;
    let two = [stored(store, &subject).await, stored(store, &subject).await];
    let ended = Ended { at: START, why: EndReason::SignedOut };
    let before = feed_end(store).await;
    for _ in 0..2 {
        store.end(Which::One(&one.id), ended, LATER).await.expect("end");
        store.end(Which::OfSubject(&subject), ended, LATER).await.expect("end");
    }
    let told: BTreeSet<_> =
        feed_after(store, before.as_ref()).await.into_iter().map(|entry| format!("{entry:?}")).collect();
    let expected = [&one, &two[0], &two[1]].map(|session| format!("{:?}", of_session(&session.id)));
    assert_eq!(told, BTreeSet::from(expected));

    // A moment within a second: the second's own sessions by name, all before it together.
    let long_ago = Timestamp::from_micros(1_500_000_000_500_000);
    for (before, is_named) in [(Duration::from_micros(1), true), (Duration::from_secs(1), false)] {
        store
            .insert(&session(if is_named { "named" } else { "not" }, long_ago.before(before)), None)
            .await
            .map(drop)
            .expect("insert");
    }
    let before = feed_end(store).await;
    assert_eq!(store.end(Which::StartedBefore(long_ago), ended, LATER).await.expect("end"), 2);
    let told = feed_after(store, before.as_ref()).await;
    let up_to = Timestamp::from_micros(1_499_999_999_999_999);
    assert_eq!(told[0], Revocation { what: Revoked::Everything { up_to }, until: LATER });
    let named = store.of_subject("named").await.expect("list");
    assert_eq!(told[1..], [of_session(&named[0].id)]);
}

/// Every kind of entry comes back as it was put there, in order.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn feeds_whatever_is_revoked(store: &dyn SessionStore) {
    let subject = "o'brien 🔭".to_owned();
    let entries = [
        (Revoked::Token("jti".to_owned()), LATER),
        (Revoked::Session("sid".to_owned()), LATER),
        (Revoked::Subject { subject, up_to: START }, LATER.after(Duration::from_micros(1))),
        (Revoked::Everything { up_to: START.after(Duration::from_micros(1)) }, LATER),
        (Revoked::Key("kid".to_owned()), Timestamp::MAX),
    ]
    .map(|(what, until)| Revocation { what, until });
    let before = feed_end(store).await;
    for entry in &entries {
        store.revoke(entry).await.expect("an entry on the feed");
    }
    assert_eq!(feed_after(store, before.as_ref()).await, entries);
    assert!(store.feed(Some(&Cursor::new("nowhere")), 1).await.is_err());
}

/// A reader that goes on from its cursor while many write misses none of the entries and sees none twice.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn misses_nothing_on_the_feed(store: Arc<dyn SessionStore>) {
    const WRITERS: usize = 16;
    const EACH: usize = 8;
    let mut cursor = feed_end(&*store).await;
    let writers: Vec<_> = (0..WRITERS)
        .map(|writer| {
            let store = store.clone();
            tokio::spawn(async move {
                for number in 0..EACH {
                    store.revoke(&of_session(&format!("{writer} {number}"))).await.expect("an entry on the feed");
                }
            })
        })
        .collect();
    let mut seen = Vec::new();
    loop {
        let are_done = writers.iter().all(tokio::task::JoinHandle::is_finished);
        let page = store.feed(cursor.as_ref(), 1_000).await.expect("a page of the feed");
        seen.extend(page.entries.into_iter().map(|entry| format!("{entry:?}")));
        cursor = page.cursor;
        if are_done {
            break;
        }
    }
    assert_eq!(seen.len(), WRITERS * EACH);
    assert_eq!(seen.into_iter().collect::<BTreeSet<_>>().len(), WRITERS * EACH);
}

/// Whoever watches is woken soon after an entry was put on the feed, also if that was before the call.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn wakes_whoever_watches_the_feed(store: &dyn SessionStore) {
    const SOON: Duration = Duration::from_secs(10);
    let mut watch = store.watch().await.expect("a watch");
    for round in ["first", "second"] {
        let before = feed_end(store).await;
        store.revoke(&of_session(round)).await.expect("an entry on the feed");
        let mut seen = Vec::new();
        while seen.is_empty() {
            let woken = tokio::time::timeout(SOON, watch.grown(before.as_ref())).await;
            woken.expect("woken").expect("a store that can be reached");
            seen = feed_after(store, before.as_ref()).await;
        }
        assert_eq!(seen, [of_session(round)]);
    }
}

/// Sessions past their time are forgotten in steps of the size asked for; what can still be renewed stays.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn purges_in_steps(store: &dyn SessionStore) {
    let past = Timestamp::from_secs(1_000_000_000);
    for _ in 0..5 {
        store.insert(&session("past", past), None).await.map(drop).expect("insert");
    }
    let alive = stored(store, "obs-0017").await;
    let before = past.after(Duration::from_secs(15 * 86_400));
    let end = feed_end(store).await;
    for until in [past, LATER] {
        store.revoke(&Revocation { until, ..of_session("past") }).await.expect("an entry on the feed");
    }
    let renewed = session("renewed", past);
    store.insert(&renewed, None).await.map(drop).expect("insert");
    let renewed = next_of(&renewed, START);
    assert!(store.advance(&renewed).await.expect("advance"));
    for expected in [2, 2, 1, 0] {
        assert_eq!(store.purge(before, 2).await.expect("purge"), expected);
    }
    assert_eq!(load(store, &alive.id).await, alive);
    assert_eq!(load(store, &renewed.id).await, renewed, "it was renewed since");
    assert_eq!(feed_after(store, end.as_ref()).await, [of_session("past")]);
}
