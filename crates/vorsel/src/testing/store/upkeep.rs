//! What a store does besides keeping sessions: figures, purges, and what is kept beside them.

use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{EndReason, Ended, Revocation, Timestamp};

use super::feed::{feed_after, feed_end, of_session};
use super::material::{LATER, START, advance, end, load, next_of, session, stored};
use crate::random::random_id;
use crate::store::{Purged, SessionStore, Which};

/// What is kept beside the sessions is as it was kept, and of several that name the same version one succeeds.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_each_version_once(store: Arc<dyn SessionStore>) {
    let (name, bytes) = (random_id().expect("randomness"), (0..=255).collect::<Vec<u8>>());
    assert_eq!(store.kept(&name).await.expect("what is kept"), None);
    assert!(!store.keep(&name, 1, &bytes).await.expect("an answer"), "there is no version 1");
    for version in 0..3 {
        let tries = (0..8).map(|number| {
            let (store, name, bytes) = (store.clone(), name.clone(), [&[number], &bytes[..]].concat());
            tokio::spawn(async move { (store.keep(&name, version, &bytes).await.expect("an answer"), bytes) })
        });
        let mut won = Vec::new();
        for tried in tries.collect::<Vec<_>>() {
            let (is_kept, bytes) = tried.await.expect("no panic");
            won.extend(is_kept.then_some(bytes));
        }
        let kept = store.kept(&name).await.expect("what is kept").expect("it is there");
        assert_eq!((kept.version, vec![kept.bytes]), (version + 1, won));
    }
    assert!(!store.keep(&name, 0, &bytes).await.expect("an answer"), "it is there");
}

/// An id is taken once, whoever asks at the same time, until its time is over; ids whose time is over are purged in steps.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn takes_each_id_once(store: Arc<dyn SessionStore>) {
    let id = random_id().expect("randomness");
    // Some stores forget by a clock of their own.
    let later = store.time().await.expect("a time").unwrap_or(LATER).after(Duration::from_secs(3_600));
    let take = async |id: &str, until| store.take(id, until).await.expect("an answer");
    let tries = (0..8).map(|_| {
        let (store, id) = (store.clone(), id.clone());
        tokio::spawn(async move { store.take(&id, later).await.expect("an answer") })
    });
    let mut won = 0;
    for tried in tries.collect::<Vec<_>>() {
        won += u32::from(tried.await.expect("no panic"));
    }
    assert_eq!((won, take(&id, later).await), (1, false), "once");
    for other in [format!("{id} "), format!("{id}'; --"), "\u{1f52d}".repeat(60) + &id, String::new() + &id[1..]] {
        assert!(take(&other, later).await && !take(&other, later).await, "{other:?} is another");
    }
    let past = Timestamp::from_secs(1_000_000_000);
    for number in 0..3 {
        assert!(take(&format!("{id} {number}"), past.after(Duration::from_secs(number))).await);
    }
    let before = past.after(Duration::from_secs(2));
    let mut steps = Vec::new();
    for _ in 0..3 {
        steps.push(store.purge(before, 1).await.expect("purge").taken);
    }
    assert!(steps == [1, 1, 0] || steps == [0, 0, 0], "in steps, or by the store's own time: {steps:?}");
    assert!(take(&format!("{id} 0"), past).await, "free again");
    assert!(!take(&id, later).await, "still taken");
    let _ = store.purge(before, 10).await.expect("purge");
}

/// The figures follow what begins, ends and is revoked; a clock of the store's own goes forward.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn counts_what_is_there(store: &dyn SessionStore) {
    let figures = async || store.figures(START).await.expect("figures");
    let before = figures().await;
    let [one, other] = [session("counted", START), session("counted", START)];
    for session in [&one, &other] {
        store.insert(session, None).await.map(drop).expect("insert");
    }
    let begun = figures().await;
    assert_eq!((begun.alive, begun.feed), (before.alive + 2, before.feed));
    let ended = Ended { at: START, why: EndReason::Withdrawn };
    assert_eq!(end(store, Which::One(&one.id), ended).await, Some(1));
    let ended = figures().await;
    assert_eq!((ended.alive, ended.feed), (before.alive + 1, before.feed + 1));
    let first = store.time().await.expect("a time");
    let second = store.time().await.expect("a time");
    assert!(first <= second && first.is_some() == second.is_some(), "{first:?} and then {second:?}");
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
    for until in [past, past, past, LATER] {
        store.revoke(&Revocation { until, ..of_session("past") }).await.expect("an entry on the feed");
    }
    let renewed = session("renewed", past);
    store.insert(&renewed, None).await.map(drop).expect("insert");
    let renewed = next_of(&renewed, START);
    assert!(advance(store, &renewed).await);
    for expected in [(2, 2), (2, 1), (1, 0), (0, 0)] {
        let Purged { sessions, entries, .. } = store.purge(before, 2).await.expect("purge");
        assert_eq!((sessions, entries), expected);
    }
    let again = store.purge(before, 2).await.expect("purge");
    assert_eq!(again, Purged::default(), "nothing is due any more, and nothing is put off for ever");
    assert_eq!(load(store, &alive.id).await, alive);
    assert_eq!(load(store, &renewed.id).await, renewed, "it was renewed since");
    assert_eq!(feed_after(store, end.as_ref()).await, [of_session("past")]);
}
