//! The conformance suite of [`SessionStore`]: run [`every_rule`] over an empty store of yours.
//!
//! The functions panic where the store breaks its contract, as an assertion does.

mod feed;
mod material;
mod upkeep;

use std::collections::BTreeSet;
use std::num::NonZeroU32;
use std::sync::Arc;
use std::time::Duration;

use vorsel_core::{Beyond, EndReason, Ended, Generation, PerSubject, Scopes, Secret, Session, Spent, Timestamp};

use crate::random::random_id;
use crate::store::{Advanced, Cap, Inserted, Mark, SessionStore, Which};
pub use feed::{
    begins_the_feed_anew_where_it_is_another, feeds_whatever_is_revoked, misses_nothing_on_the_feed,
    tells_of_every_end, wakes_whoever_watches_the_feed,
};
use feed::{feed_after, feed_end, of_session};
use material::{LATER, START, advance, end, load, next_of, session, stored, with_facts};
pub use upkeep::{counts_what_is_there, keeps_each_version_once, purges_in_steps, takes_each_id_once};

/// Checks every rule of the contract in turn.
///
/// # Panics
/// Where the store breaks a rule.
pub async fn every_rule(store: Arc<dyn SessionStore>) {
    loads_what_was_stored(&*store).await;
    refuses_an_id_that_is_taken(&*store).await;
    takes_each_generation_once(&*store).await;
    moves_on_over_a_gap(&*store).await;
    lets_one_of_many_advance(store.clone()).await;
    keeps_advances_at_once_apart(store.clone()).await;
    answers_whoever_still_waits(store.clone()).await;
    keeps_ended_sessions_ended(&*store).await;
    lets_no_advance_pass_an_end(store.clone()).await;
    keeps_how_a_caller_authenticated(&*store).await;
    ends_by_subject(&*store).await;
    ends_all_of_a_time(&*store).await;
    lists_a_subject_oldest_first(&*store).await;
    lists_all_in_pages(&*store).await;
    keeps_to_the_limit_of_a_subject(&*store).await;
    lets_no_more_in_than_the_limit(store.clone()).await;
    ends_and_limits_do_not_wait_for_each_other(store.clone()).await;
    tells_of_every_end(&*store).await;
    feeds_whatever_is_revoked(&*store).await;
    misses_nothing_on_the_feed(store.clone()).await;
    begins_the_feed_anew_where_it_is_another(&*store).await;
    wakes_whoever_watches_the_feed(&*store).await;
    counts_what_is_there(&*store).await;
    keeps_each_version_once(store.clone()).await;
    takes_each_id_once(store.clone()).await;
    purges_in_steps(&*store).await;
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
        let mut session = with_facts(&session(subject, START), |facts| {
            facts.device = device.map(str::to_owned);
            facts.acr = device.map(str::to_owned);
            facts.scopes = device.map(|_| Scopes::parse("exposures:read logs:read").expect("scopes"));
            facts.bound_to = device.map(str::to_owned);
            facts.authenticated_at = START.before(Duration::from_micros(1));
            facts.secret = Secret::new((0..=255).collect());
        });
        session.current.number = 3;
        session.spent =
            (0..3).map(|age| Spent { began_at: START, idle_until: START.after(Duration::from_secs(age)) }).collect();
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
    let second = with_facts(&first, |facts| "dir-0001".clone_into(&mut facts.subject));
    assert!(store.insert(&second, None).await.is_err());
    assert_eq!(load(store, &first.id).await, first);
}

/// A caller who authenticates again has the session of before, with another time and way; an ended session stays as it is.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_how_a_caller_authenticated(store: &dyn SessionStore) {
    let first = stored(store, "obs-0017").await;
    let again = with_facts(&first, |facts| {
        facts.authenticated_at = LATER;
        facts.acr = Some("phr".to_owned());
    });
    assert!(store.authenticated(&first.id, &again.facts).await.expect("an answer"));
    assert_eq!(load(store, &first.id).await, again);
    let next = next_of(&again, START);
    assert!(advance(store, &next).await);
    assert_eq!(load(store, &first.id).await, next);
    assert!(!store.authenticated("nobody", &again.facts).await.expect("an answer"));
    assert_eq!(store.load("nobody").await.expect("load"), None);
    let ended = Ended { at: LATER, why: EndReason::SignedOut };
    assert_eq!(end(store, Which::One(&first.id), ended).await, Some(1));
    let over = load(store, &first.id).await;
    assert!(!store.authenticated(&first.id, &first.facts).await.expect("an answer"));
    assert_eq!(load(store, &first.id).await, over);
}

/// Each generation is taken once, and none that has been passed.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn takes_each_generation_once(store: &dyn SessionStore) {
    let mut session = stored(store, "obs-0017").await;
    let mut passed = vec![session.clone()];
    for number in 1..=Session::MOST_SPENT as u64 + 2 {
        session = next_of(&session, START.after(Duration::from_micros(number)));
        assert!(advance(store, &session).await, "generation {number}");
        passed.push(session.clone());
        assert_eq!(load(store, &session.id).await, session);
        for known in passed.iter().rev().take(3).chain(&passed[..1]) {
            let current = Generation { began_at: LATER, ..known.current };
            let again = Session { current, ..known.clone() };
            assert!(!advance(store, &again).await, "generation {} again", known.current.number);
        }
    }
    assert_eq!(load(store, &session.id).await, session);
    let nobody = next_of(&self::session("unknown", START), START);
    assert!(!advance(store, &nobody).await);
    assert_eq!(store.load(&nobody.id).await.expect("load"), None);
}

/// Where a fail-over has lost generations, the session moves on from the last one that a token tells of, and to none before it.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn moves_on_over_a_gap(store: &dyn SessionStore) {
    let first = stored(store, "obs-0017").await;
    let at = |number: u64| {
        let current = Generation { number, began_at: START.after(Duration::from_secs(number)), idle_until: LATER };
        let spent = vec![Spent { began_at: START, idle_until: LATER }];
        Session { current, spent, ..first.clone() }
    };
    assert!(advance(store, &at(5)).await);
    let moved = load(store, &first.id).await;
    assert_eq!((moved.current, moved.ended), (at(5).current, None));
    for before in [1, 4, 5] {
        assert!(!advance(store, &at(before)).await, "generation {before} after the fifth");
    }
    assert!(advance(store, &at(6)).await);
    let ended = Ended { at: LATER, why: EndReason::SignedOut };
    assert_eq!(end(store, Which::One(&first.id), ended).await, Some(1));
    assert!(!advance(store, &at(9)).await);
}

/// Of many callers that advance the same generation at once, one gets [`Advanced::Made`].
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_one_of_many_advance(store: Arc<dyn SessionStore>) {
    const CALLERS: u64 = 64;
    let first = stored(&*store, "obs-0017").await;
    let callers: Vec<_> = (0..CALLERS)
        .map(|caller| {
            let (store, next) = (store.clone(), next_of(&first, START.after(Duration::from_secs(caller))));
            tokio::spawn(async move { advance(&*store, &next).await.then_some(next) })
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
            0 => (Session { current: Generation { began_at: at, ..first.current }, ..first.clone() }, None),
            1 => {
                let ended = Ended { at, why: EndReason::SignedOut };
                assert_eq!(end(&*store, Which::One(&first.id), ended).await, Some(1));
                (next, None)
            }
            _ => (next.clone(), Some(next)),
        };
        let store = store.clone();
        callers.push(tokio::spawn(async move {
            let advanced = advance(&*store, &tried).await;
            let kept = load(&*store, &first.id).await;
            assert_eq!(advanced, expected.is_some(), "session {number}");
            assert_eq!(kept.current.number, u64::from(advanced));
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
            callers.push((first.id, tokio::spawn(async move { store.advance(&next.id, next.advance()).await })));
        }
        tokio::time::sleep(Duration::from_micros(delay * 40)).await;
        for (_, caller) in callers.iter().step_by(3) {
            caller.abort();
        }
        for (id, caller) in callers {
            let waited = tokio::time::timeout(Duration::from_secs(60), caller).await.expect("an answer");
            let kept = load(&*store, &id).await.current.number;
            match waited {
                Ok(answer) => assert_eq!((answer.expect("advance"), kept), (Advanced::Made, 1)),
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
        assert_eq!(end(store, Which::One(&session.id), ended).await, Some(1));
        let again = Ended { at: START.after(Duration::from_secs(9)), why: EndReason::Withdrawn };
        assert_eq!(end(store, Which::One(&session.id), again).await, Some(0));
        assert!(!advance(store, &next_of(&session, START)).await, "an ended session advanced");
        assert_eq!(load(store, &session.id).await, Session { ended: Some(ended), ..session });
    }
    let nobody = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(end(store, Which::One("nobody"), nobody).await, Some(0));
}

/// However an end and advances fall together, the session is ended afterwards and every later step says so.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_no_advance_pass_an_end(store: Arc<dyn SessionStore>) {
    for _ in 0..16 {
        let first = stored(&*store, "obs-0017").await;
        let (advancing, next) = (store.clone(), next_of(&first, START));
        let advancing = tokio::spawn(async move { advance(&*advancing, &next).await });
        let (ending, id) = (store.clone(), first.id.clone());
        let ended = Ended { at: START, why: EndReason::SignedOut };
        let ending = tokio::spawn(async move { end(&*ending, Which::One(&id), ended).await });
        let advanced = advancing.await.expect("no panic");
        assert_eq!(ending.await.expect("no panic"), Some(1));
        let session = load(&*store, &first.id).await;
        assert_eq!(session.ended, Some(ended));
        assert_eq!(session.current.number, u64::from(advanced));
        let next = next_of(&session, START);
        assert!(!advance(&*store, &next).await);
    }
}

/// Sessions end by subject, and no others do.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn ends_by_subject(store: &dyn SessionStore) {
    let ended = Ended { at: START, why: EndReason::Withdrawn };
    let subject = random_id().expect("randomness");
    let mine = [stored(store, &subject).await, stored(store, &subject).await];
    let other = stored(store, "obs-0017").await;
    assert_eq!(end(store, Which::OfSubject(&subject), ended).await, Some(2));
    for session in &mine {
        assert_eq!(load(store, &session.id).await.ended, Some(ended));
    }
    assert_eq!(load(store, &other.id).await.ended, None);
}

/// All that started before a moment is over, wherever it is looked at, also what is stored afterwards; what started later is
/// not; and what had ended keeps its end.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn ends_all_of_a_time(store: &dyn SessionStore) {
    let second = Timestamp::from_secs(500_000_000);
    let moment = second.after(Duration::from_millis(500));
    let next_second = second.after(Duration::from_secs(1));
    let subject = random_id().expect("randomness");
    let [early, signed_out, late] = [second, second, next_second].map(|started_at| session(&subject, started_at));
    for session in [&early, &signed_out, &late] {
        store.insert(session, None).await.map(drop).expect("insert");
    }
    let before = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(end(store, Which::One(&signed_out.id), before).await, Some(1));
    let ended = Ended { at: START.after(Duration::from_secs(1)), why: EndReason::Withdrawn };
    assert_eq!(end(store, Which::StartedBefore(second), ended).await, None);
    assert_eq!(load(store, &early.id).await.ended, None);
    for round in 0..2 {
        // What is said again says nothing new.
        let ended = Ended { at: ended.at.after(Duration::from_secs(round)), ..ended };
        assert_eq!(end(store, Which::StartedBefore(moment), ended).await, None);
    }
    let behind = session(&subject, second);
    store.insert(&behind, None).await.map(drop).expect("insert");
    let expected = [(&early, Some(ended)), (&behind, Some(ended)), (&signed_out, Some(before)), (&late, None)];
    for (session, ended) in expected {
        assert_eq!(load(store, &session.id).await.ended, ended);
        let of_subject = store.of_subject(&subject).await.expect("list");
        assert_eq!(of_subject.iter().find(|other| other.id == session.id).and_then(|other| other.ended), ended);
        assert_eq!(advance(store, &next_of(session, START)).await, ended.is_none(), "{session:?}");
    }
    for session in [&early, &behind] {
        assert_eq!(end(store, Which::One(&session.id), before).await, Some(0));
        assert_eq!(load(store, &session.id).await.ended, Some(ended));
        assert_eq!(load(store, &session.id).await.current.number, 0);
    }
    assert_eq!(end(store, Which::OfSubject(&subject), before).await, Some(1));

    // A later mark leaves what the first one ended as it is; of many, the sessions of the first have the end of another.
    let later = Ended { at: START.after(Duration::from_secs(9)), ..ended };
    assert_eq!(end(store, Which::StartedBefore(next_second.after(Duration::from_secs(1))), later).await, None);
    assert_eq!(load(store, &early.id).await.ended, Some(ended));
    for number in 2..Mark::MOST as u64 + 4 {
        let moment = next_second.after(Duration::from_secs(number));
        assert_eq!(end(store, Which::StartedBefore(moment), later).await, None);
    }
    assert_eq!(load(store, &early.id).await.ended, Some(later));
    assert!(!advance(store, &next_of(&early, START)).await);

    // They don't count among those that a subject may have, and are purged like others.
    let cap = cap(1, Beyond::Refuse);
    let cap = Cap { now: second, ..cap };
    let alive = session(&subject, START);
    assert_eq!(store.insert(&alive, Some(cap)).await.expect("insert"), Inserted::Kept { displaced: 0 });
    let purged = store.purge(second.after(Duration::from_secs(400 * 86_400)), 100).await.expect("purge");
    assert_eq!(purged.sessions, 3);
    let left = store.of_subject(&subject).await.expect("list");
    assert_eq!(left.iter().map(|session| &session.id).collect::<Vec<_>>(), [&late.id, &alive.id]);
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
    let starts: Vec<_> = listed.iter().map(|session| session.facts.started_at.as_secs() - START.as_secs()).collect();
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

fn cap(most: u32, beyond: Beyond) -> Cap {
    let most = NonZeroU32::new(most).expect("one at least");
    Cap { limit: PerSubject { most, beyond }, now: START.after(Duration::from_secs(100)), until: LATER }
}

/// A limit refuses, or ends the oldest; sessions that are over do not count.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn keeps_to_the_limit_of_a_subject(store: &dyn SessionStore) {
    let subject = random_id().expect("randomness");
    let begun = |age| session(&subject, START.after(Duration::from_secs(age)));
    let sessions: Vec<_> = (0..5).map(begun).collect();
    let insert = async |session: &Session, cap| store.insert(session, Some(cap)).await.expect("insert");
    let kept = |displaced| Inserted::Kept { displaced };
    assert_eq!(insert(&sessions[0], cap(2, Beyond::Refuse)).await, kept(0));
    assert_eq!(insert(&sessions[1], cap(2, Beyond::Refuse)).await, kept(0));
    assert_eq!(insert(&sessions[2], cap(2, Beyond::Refuse)).await, Inserted::Full);
    assert_eq!(store.load(&sessions[2].id).await.expect("load"), None);
    assert_eq!(insert(&session("somebody else", START), cap(1, Beyond::Refuse)).await, kept(0));
    let signed_out = Ended { at: START, why: EndReason::SignedOut };
    assert_eq!(end(store, Which::One(&sessions[0].id), signed_out).await, Some(1));
    assert_eq!(insert(&sessions[2], cap(2, Beyond::Refuse)).await, kept(0));

    let before = feed_end(store).await;
    assert_eq!(insert(&sessions[3], cap(2, Beyond::EndOldest)).await, kept(1));
    assert_eq!(insert(&sessions[4], cap(1, Beyond::EndOldest)).await, kept(2), "the limit was lowered");
    let ended = Some(Ended { at: cap(1, Beyond::EndOldest).now, why: EndReason::Displaced });
    for (session, ended) in sessions.iter().zip([Some(signed_out), ended, ended, ended, None]) {
        assert_eq!(load(store, &session.id).await.ended, ended);
    }
    let told: Vec<_> = [1, 2, 3].map(|index: usize| of_session(&sessions[index].id)).into();
    assert_eq!(feed_after(store, before.as_ref()).await, told);
}

/// However many sign in at once, no more get in than the limit says.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn lets_no_more_in_than_the_limit(store: Arc<dyn SessionStore>) {
    let subject = random_id().expect("randomness");
    let callers: Vec<_> = (0..32)
        .map(|age| {
            let (store, session) = (store.clone(), session(&subject, START.after(Duration::from_secs(age))));
            tokio::spawn(async move { store.insert(&session, Some(cap(3, Beyond::Refuse))).await.expect("insert") })
        })
        .collect();
    let mut kept = 0;
    for caller in callers {
        kept += u32::from(caller.await.expect("no panic") != Inserted::Full);
    }
    assert_eq!(kept, 3);
    assert_eq!(store.of_subject(&subject).await.expect("list").len(), 3);
}

/// However ends of a subject's sessions and sign-ins that displace some fall together, each comes to an end and none fails.
///
/// # Panics
/// Where the store breaks the rule.
pub async fn ends_and_limits_do_not_wait_for_each_other(store: Arc<dyn SessionStore>) {
    for _ in 0..12 {
        let subject = random_id().expect("randomness");
        let mut first = Vec::new();
        for age in 0..4 {
            first.push(session(&subject, START.after(Duration::from_secs(age))));
            store.insert(&first[age as usize], None).await.map(drop).expect("insert");
        }
        let ended = Ended { at: START, why: EndReason::SignedOut };
        let mut callers = Vec::new();
        for (number, session) in first.iter().enumerate() {
            let (store, one, subject) = (store.clone(), session.id.clone(), subject.clone());
            callers.push(tokio::spawn(async move {
                match number {
                    0 => drop(end(&*store, Which::OfSubject(&subject), ended).await),
                    1 => drop(end(&*store, Which::One(&one), ended).await),
                    _ => {
                        let new = self::session(&subject, START.after(Duration::from_secs(9)));
                        store.insert(&new, Some(cap(2, Beyond::EndOldest))).await.map(drop).expect("insert");
                    }
                }
            }));
        }
        for caller in callers {
            caller.await.expect("none fails");
        }
        for session in first {
            assert!(load(&*store, &session.id).await.ended.is_some());
        }
    }
}
