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
