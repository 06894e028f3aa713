//! The rules of the feed.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{EndReason, Ended, Revocation, Revoked, Timestamp};

use super::material::{LATER, START, end, stored};
use crate::random::random_id;
use crate::store::{Cursor, SessionStore, Which};

pub(super) fn of_session(id: &str) -> Revocation {
    Revocation { what: Revoked::Session(id.to_owned()), until: LATER }
}

pub(super) async fn feed_after(store: &dyn SessionStore, after: Option<&Cursor>) -> Vec<Revocation> {
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

pub(super) async fn feed_end(store: &dyn SessionStore) -> Option<Cursor> {
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
        end(store, Which::One(&one.id), ended).await;
        end(store, Which::OfSubject(&subject), ended).await;
    }
    let told: BTreeSet<_> =
        feed_after(store, before.as_ref()).await.into_iter().map(|entry| format!("{entry:?}")).collect();
    let expected = [&one, &two[0], &two[1]].map(|session| format!("{:?}", of_session(&session.id)));
    assert_eq!(told, BTreeSet::from(expected));

    // All of a time together, in whole seconds, whether or not there are any.
    let moment = Timestamp::from_micros(900_000_000_500_000);
    for _ in 0..2 {
        let before = feed_end(store).await;
        assert_eq!(end(store, Which::StartedBefore(moment), ended).await, None);
        let up_to = Timestamp::from_micros(900_000_000_999_999);
        let told = feed_after(store, before.as_ref()).await;
        assert_eq!(told, [Revocation { what: Revoked::SignIns { up_to }, until: LATER }]);
    }
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
        (Revoked::SignIns { up_to: START.after(Duration::from_micros(1)) }, LATER),
        (Revoked::IssuedInSession { session: "sid".to_owned(), up_to: START }, LATER),
        (Revoked::IssuedTo { subject, up_to: START }, LATER.after(Duration::from_micros(1))),
        (Revoked::Issued { up_to: START.after(Duration::from_micros(1)) }, LATER),
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

/// A reader whose last entry is not there any more reads from the beginning, and is told so; then it goes on as before.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn begins_the_feed_anew_where_it_is_another(store: &dyn SessionStore) {
    let past = Timestamp::from_secs(1_000_000_000);
    let stays = Revocation { until: LATER.after(Duration::from_secs(1)), ..of_session("stays") };
    store.revoke(&stays).await.expect("an entry on the feed");
    store.revoke(&Revocation { until: past, ..of_session("goes") }).await.expect("an entry on the feed");
    let end = feed_end(store).await;
    let page = store.feed(end.as_ref(), 10).await.expect("a page of the feed");
    assert_eq!((page.entries.len(), page.is_anew, &page.cursor), (0, false, &end));
    while store.purge(past.after(Duration::from_secs(1)), 100).await.expect("purge").entries > 0 {}
    let first = store.feed(None, 1).await.expect("a page of the feed");
    let page = store.feed(end.as_ref(), 1).await.expect("a page of the feed");
    assert!(page.is_anew);
    assert_eq!((&page.entries, &page.cursor), (&first.entries, &first.cursor));
    let rest = store.feed(page.cursor.as_ref(), 1_000).await.expect("a page of the feed");
    assert!(!rest.is_anew && (rest.entries.contains(&stays) || first.entries.contains(&stays)));
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
