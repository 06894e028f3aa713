//! What one instance ends, the guard of another refuses: by every kind of revocation, for tokens seen before, and through
//! the failures of a store.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use http::Request;
use vorsel::store::{
    Advanced, Cap, Cursor, End, FeedPage, FeedWatch, Inserted, MemoryStore, SessionStore, SqliteStore, StoreError,
    Which,
};
use vorsel::{
    AccessPlan, AccessTokens, Advance, Ended, Guard, Issued, Lifetime, LiveRevocations, NoOwn, Refusal, RenewError,
    RenewalRequest, Revocation, RevokeError, Revoked, Session, SignIn, StartError, Stop, Timestamp, WhenSilent, now,
};

mod common;
#[path = "common/lines.rs"]
mod lines;
use common::{House, WINDOW, house, houses};
use lines::Lines;

/// A store that fails on demand.
#[derive(Debug)]
struct Flaky {
    inner: MemoryStore,
    is_down: AtomicBool,
    /// How often the feed was read.
    reads: AtomicUsize,
    /// A clock of its own, so many seconds off this machine's.
    off_by: Option<i64>,
}

impl Flaky {
    fn up(&self) -> Result<&MemoryStore, StoreError> {
        match self.is_down.load(Ordering::Relaxed) {
            true => Err(StoreError::new("be reached", "it is down").passing()),
            false => Ok(&self.inner),
        }
    }
}

#[async_trait]
impl SessionStore for Flaky {
    async fn insert(&self, session: &Session, cap: Option<Cap>) -> Result<Inserted, StoreError> {
        self.up()?.insert(session, cap).await
    }
    async fn load(&self, id: &str) -> Result<Option<Session>, StoreError> {
        self.up()?.load(id).await
    }
    async fn advance(&self, id: &str, change: Advance<'_>) -> Result<Advanced, StoreError> {
        self.up()?.advance(id, change).await
    }
    async fn of_subject(&self, subject: &str) -> Result<Vec<Session>, StoreError> {
        self.up()?.of_subject(subject).await
    }
    async fn page(&self, after: Option<&str>, limit: u32) -> Result<Vec<Session>, StoreError> {
        self.up()?.page(after, limit).await
    }
    async fn end(&self, end: End<'_>) -> Result<Option<u64>, StoreError> {
        self.up()?.end(end).await
    }
    async fn revoke(&self, revocation: &Revocation) -> Result<(), StoreError> {
        self.up()?.revoke(revocation).await
    }
    async fn feed(&self, after: Option<&Cursor>, limit: u32) -> Result<FeedPage, StoreError> {
        self.reads.fetch_add(1, Ordering::Relaxed);
        tokio::time::sleep(Duration::from_millis(20)).await;
        self.up()?.feed(after, limit).await
    }
    async fn watch(&self) -> Result<Box<dyn FeedWatch>, StoreError> {
        self.up()?.watch().await
    }
    async fn time(&self) -> Result<Option<Timestamp>, StoreError> {
        self.up()?;
        Ok(self.off_by.map(|off_by| seconds_after(now(), off_by)))
    }
    async fn figures(&self, now: Timestamp) -> Result<vorsel::store::StoreFigures, StoreError> {
        self.up()?.figures(now).await
    }
    async fn kept(&self, name: &str) -> Result<Option<vorsel::store::Kept>, StoreError> {
        self.up()?.kept(name).await
    }
    async fn keep(&self, name: &str, after: u64, bytes: &[u8]) -> Result<bool, StoreError> {
        self.up()?.keep(name, after, bytes).await
    }
    async fn authenticated(&self, id: &str, facts: &vorsel::Facts) -> Result<bool, StoreError> {
        self.up()?.authenticated(id, facts).await
    }
    async fn take(&self, id: &str, until: Timestamp) -> Result<bool, StoreError> {
        self.up()?.take(id, until).await
    }
    async fn purge(&self, before: Timestamp, limit: u32) -> Result<vorsel::store::Purged, StoreError> {
        self.up()?.purge(before, limit).await
    }
}

fn seconds_after(moment: Timestamp, seconds: i64) -> Timestamp {
    Timestamp::from_micros(moment.as_micros() + seconds * 1_000_000)
}

fn plan() -> AccessPlan {
    let plan = AccessPlan::builder().role("observer", &[]).predicates(&["revocations-current"]);
    let plan = plan.need("GET", "/dome", "role observer").open("GET", "/health");
    plan.need("POST", "/dome", "role observer and predicate revocations-current").build().expect("a plan")
}

const SILENCE: Duration = Duration::from_millis(300);

/// A guard of another instance than the one that ends sessions.
async fn guard(house: &House, store: &Arc<dyn SessionStore>, when_silent: WhenSilent) -> (Guard, LiveRevocations) {
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let guard = Guard::<NoOwn>::builder(house.verifier(), plan()).clock(house.clock.clone());
    (guard.revocations(view.clone(), SILENCE, when_silent).build().expect("a guard"), view)
}

/// What the guard says to a token: nothing if it lets it in.
async fn refusal(guard: &Guard, method: &str, token: &str) -> Option<String> {
    let request = Request::builder().method(method).uri("/dome").header("authorization", format!("Bearer {token}"));
    let (parts, ()) = request.body(()).expect("a request").into_parts();
    guard.decide(&parts, guard.now()).await.err().map(|stop| match stop {
        Stop::Refused(Refusal::BadToken(finding)) => finding.check.code().to_owned(),
        other => format!("{} {}", other.answer("api").status, other.code()),
    })
}

async fn soon(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let deadline = Instant::now() + Duration::from_secs(20);
    while !holds().await {
        assert!(Instant::now() < deadline, "{what}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_instance_revokes_another_s_guard_refuses() {
    let folder = tempfile::tempdir().expect("a folder");
    let sqlite = SqliteStore::open(folder.path().join("sessions.sqlite")).await.expect("a store");
    for store in [Arc::new(MemoryStore::new()) as Arc<dyn SessionStore>, Arc::new(sqlite)] {
        let house = houses(&store, 1, WINDOW).remove(0);
        let (guard, _) = guard(&house, &store, WhenSilent::Refuse).await;
        let tokens = house.sessions.access_tokens();
        for way in ["sign-out", "replay", "token", "id", "session", "subject", "all", "everything ended", "key"] {
            // Later sign-ins are not meant by earlier revocations.
            house.clock.advance(Duration::from_secs(1));
            let reply = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
            let token = &reply.access_token;
            assert_eq!(refusal(&guard, "GET", token).await, None, "{way}");
            let checked = house.verifier().check(token, house.now()).expect("accepted");
            let claims = checked.claims();
            let session = claims.session_id().expect("a session").to_owned();
            match way {
                "sign-out" => house.sessions.sign_out(&reply.refresh_token, None).await.expect("signed out"),
                "replay" => {
                    house.sessions.renew(&reply.refresh_token, RenewalRequest::default()).await.expect("renewed");
                    house.clock.advance(WINDOW);
                    let replay = house.sessions.renew(&reply.refresh_token, RenewalRequest::default()).await;
                    assert!(matches!(replay, Err(RenewError::Replay { .. })));
                }
                "id" => tokens.revoke_id(claims.id().expect("an ID")).await.expect("revoked"),
                "session" => tokens.revoke(Issued::InSession(&session)).await.expect("revoked"),
                "subject" => tokens.revoke(Issued::To("obs-0017")).await.expect("revoked"),
                "all" => tokens.revoke(Issued::ToAnybody).await.expect("revoked"),
                "everything ended" => {
                    house.clock.advance(Duration::from_secs(1));
                    house.sessions.end(Which::StartedBefore(house.now())).await.map(drop).expect("ended");
                }
                "key" => revoke_key(&house).await,
                _ => tokens.revoke_token(token, Some("desk")).await.expect("revoked"),
            }
            soon(way, async || refusal(&guard, "GET", token).await.as_deref() == Some("revoked")).await;
        }
    }
}

/// A key that signs is not revoked, since new tokens would be refused; once it is withdrawn from the keyring, it is.
async fn revoke_key(house: &House) {
    let (tokens, ring) = (house.sessions.access_tokens(), &house.sessions.keys().access);
    let key = ring.current().keys()[0].key_id().to_owned();
    let error = tokens.revoke_key(&key).await.expect_err("it signs").to_string();
    let what = "expected a key that signs no more, but found";
    assert_eq!(error, format!("{what} {key:?}, which is active; withdraw it from the keyring first"));
    ring.change(|ring| ring.compromise(&key, house.now())).expect("withdrawn");
    tokens.revoke_key(&key).await.expect("revoked");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_instance_that_ends_a_session_knows_it_at_once() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = houses(&store, 1, WINDOW).remove(0);
    let (guard, view) = guard(&house, &store, WhenSilent::GoOn).await;
    let sessions = house.set_up(|sessions| sessions.revocations(view)).sessions;
    let reply = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    assert_eq!(refusal(&guard, "GET", &reply.access_token).await, None);
    sessions.sign_out(&reply.refresh_token, None).await.expect("signed out");
    assert_eq!(refusal(&guard, "GET", &reply.access_token).await.as_deref(), Some("revoked"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_feed_is_noticed_and_what_was_missed_is_caught_up_with() {
    let flaky = Arc::new(Flaky {
        inner: MemoryStore::new(),
        is_down: AtomicBool::new(false),
        reads: AtomicUsize::new(0),
        off_by: None,
    });
    let store: Arc<dyn SessionStore> = flaky.clone();
    let house = houses(&store, 1, WINDOW).remove(0);
    let (going_on, view) = guard(&house, &store, WhenSilent::GoOn).await;
    let (refusing, _) = guard(&house, &store, WhenSilent::Refuse).await;
    let reply = house.sessions.start(SignIn::new("obs-0017", "desk").acr("phr")).await.expect("a session");
    let token = &reply.access_token;
    for (guard, method) in [(&going_on, "GET"), (&going_on, "POST"), (&refusing, "GET")] {
        assert_eq!(refusal(guard, method, token).await, None);
    }
    flaky.is_down.store(true, Ordering::Relaxed);
    let unanswered = Some("503 unanswered".to_owned());
    soon("the silence is noticed", async || refusal(&refusing, "GET", token).await == unanswered).await;
    soon("by the route that asks as well", async || refusal(&going_on, "POST", token).await == unanswered).await;
    assert!(view.silent_for() > SILENCE);
    assert_eq!(refusal(&going_on, "GET", token).await, None, "the app has chosen to go on");
    let renewal = house.sessions.renew(&reply.refresh_token, RenewalRequest::default()).await;
    assert!(matches!(renewal, Err(RenewError::Store(error)) if error.is_retryable()));

    // Another instance, which reaches the store, ends the session meanwhile.
    let ended = Ended { at: house.now(), why: vorsel::EndReason::SignedOut };
    let until = house.now().after(Duration::from_secs(600));
    flaky.inner.end(End { which: Which::OfSubject("obs-0017"), ended, until }).await.expect("ended");
    assert_eq!(refusal(&going_on, "GET", token).await, None, "nobody here can know");
    flaky.is_down.store(false, Ordering::Relaxed);
    for guard in [&going_on, &refusing] {
        soon("what was missed", async || refusal(guard, "GET", token).await.as_deref() == Some("revoked")).await;
    }
}

#[tokio::test]
async fn a_guard_without_a_view_does_not_take_a_plan_that_asks_for_one() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = houses(&store, 1, WINDOW).remove(0);
    let error = Guard::<NoOwn>::new(house.verifier(), plan()).expect_err("no view");
    assert!(error.to_string().contains("predicate revocations-current, which is not registered"), "{error}");
}

#[tokio::test]
async fn a_subject_has_as_many_sessions_as_it_may() {
    use vorsel::{Beyond, EndReason, PerSubject, SessionLimits};
    for beyond in [Beyond::Refuse, Beyond::EndOldest] {
        let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
        let house = houses(&store, 1, WINDOW).remove(0);
        let most = std::num::NonZeroU32::new(2).expect("two");
        let limits = SessionLimits { per_subject: Some(PerSubject { most, beyond }), ..SessionLimits::default() };
        let house = house.set_up(|sessions| sessions.limits(limits));
        let sessions = &house.sessions;
        let mut tokens = Vec::new();
        for device in ["dome terminal", "laptop"] {
            house.clock.advance(Duration::from_secs(1));
            let reply = sessions.start(SignIn::new("obs-0017", "desk").device(device)).await;
            tokens.push(reply.expect("room for two").refresh_token);
        }
        house.clock.advance(Duration::from_secs(1));
        let third = sessions.start(SignIn::new("obs-0017", "desk").device("tab\u{0}let\n")).await;
        let oldest = sessions.renew(&tokens[0], RenewalRequest::default()).await;
        if beyond == Beyond::Refuse {
            assert!(matches!(third, Err(StartError::TooManySessions { most: 2 })));
            oldest.expect("still there");
            continue;
        }
        third.expect("the oldest makes way");
        assert!(matches!(oldest, Err(RenewError::Ended(EndReason::Displaced))));
        let left = sessions.of_subject("obs-0017").await.expect("a list");
        let devices: Vec<_> = left.iter().filter_map(|session| session.facts.device.as_deref()).collect();
        assert_eq!(devices, ["laptop", "tablet"]);
    }
}

#[tokio::test]
async fn facts_of_the_sign_in_are_carried_on_and_what_is_over_is_purged() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = houses(&store, 1, WINDOW).remove(0);
    let first = house.sessions.start(SignIn::new("obs-0017", "desk").acr("phr")).await.expect("a session");
    let signed_in = house.now();
    house.clock.advance(Duration::from_secs(3_600));
    let second = house.sessions.renew(&first.refresh_token, RenewalRequest::default()).await.expect("renewed");
    let checked = house.verifier().check(&second.access_token, house.now()).expect("accepted");
    assert_eq!((checked.claims().acr(), checked.claims().authenticated_at()), (Some("phr"), Some(signed_in)));
    assert_eq!(house.sessions.purge().await.expect("purged"), 0);
    house.clock.advance(Duration::from_secs(15 * 86_400));
    assert_eq!(house.sessions.purge().await.expect("purged"), 1);
}

async fn feed_of(store: &dyn SessionStore) -> Vec<Revocation> {
    store.feed(None, 1_000).await.expect("the feed").entries
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_revoked_again_and_again_is_on_the_feed_once() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = houses(&store, 1, WINDOW).remove(0);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let sessions = house.set_up(|sessions| sessions.revocations(view)).sessions;
    let reply = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    for _ in 0..200 {
        sessions.access_tokens().revoke_token(&reply.access_token, Some("desk")).await.expect("revoked");
        sessions.sign_out(&reply.refresh_token, None).await.expect("signed out");
    }
    assert_eq!(feed_of(&*store).await.len(), 2, "the token and the session");
}

#[tokio::test]
async fn what_no_token_has_room_for_is_not_put_on_the_feed() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let tokens = houses(&store, 1, WINDOW).remove(0).sessions.access_tokens().clone();
    let longest = "o".repeat(AccessTokens::LONGEST_NAME);
    let longer = format!("{longest}o");
    tokens.revoke(Issued::To(&longest)).await.expect("revoked");
    let lifetime = Lifetime::minutes(5);
    for refused in [
        tokens.revoke(Issued::To(&longer)).await,
        tokens.revoke(Issued::InSession(&longer)).await,
        tokens.revoke_of("https://id.skarnhill.test", Issued::To(&longest), lifetime).await,
        tokens.revoke_id(&longer).await,
        tokens.revoke_key(&longer).await,
    ] {
        assert!(matches!(refused, Err(RevokeError::LongName { found }) if found > longest.len()), "{refused:?}");
    }
    assert_eq!(feed_of(&*store).await.len(), 1);
}

/// As after a fail-over that lost the last moments: places of the feed are given a second time, and what had ended is alive.
#[tokio::test(flavor = "multi_thread")]
async fn what_a_store_has_lost_is_put_back_by_whoever_knows_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let store: Arc<dyn SessionStore> = Arc::new(SqliteStore::open(&path).await.expect("a store"));
    let house = houses(&store, 1, WINDOW).remove(0);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.revocations(view.clone()));
    let sessions = &house.sessions;
    let mut devices = Vec::new();
    for _ in 0..6 {
        devices.push(sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session"));
    }
    let verifier = house.verifier();
    let checked = |token: &str| verifier.check(token, house.now()).expect("accepted");
    for device in &devices[..3] {
        sessions.sign_out(&device.refresh_token, None).await.expect("signed out");
    }
    sessions.access_tokens().revoke_token(&devices[3].access_token, None).await.expect("revoked");
    let lost = feed_of(&*store).await;
    assert_eq!(lost.len(), 4);

    let pool = sqlx::SqlitePool::connect_with(sqlx::sqlite::SqliteConnectOptions::new().filename(&path)).await;
    let pool = pool.expect("the file");
    let loss = "BEGIN IMMEDIATE; DELETE FROM vorsel_feed; DELETE FROM sqlite_sequence;
        UPDATE vorsel_sessions SET ended_at = NULL, ended_why = NULL; COMMIT";
    sqlx::raw_sql(loss).execute(&pool).await.expect("a loss");
    let renewed = sessions.renew(&devices[0].refresh_token, RenewalRequest::default()).await;
    assert!(matches!(renewed, Err(RenewError::Ended(_))), "known here, whatever the store says: {renewed:?}");
    // Another instance, which knows nothing of it, has the same places taken before this one looks again.
    let other = houses(&store, 1, WINDOW).remove(0);
    for number in 0..4 {
        other.sessions.access_tokens().revoke_id(&format!("other {number}")).await.expect("revoked");
    }
    let lacking = async || {
        let feed = feed_of(&*store).await;
        lost.iter().filter(|entry| !feed.iter().any(|other| other.what == entry.what)).count()
    };
    soon("all of it is on the feed again", async || lacking().await == 0).await;
    for device in &devices[..3] {
        let id = checked(&device.access_token).claims().session_id().expect("a session").to_owned();
        assert!(store.load(&id).await.expect("load").expect("the session").ended.is_some());
    }
    soon("what came meanwhile is known", async || view.known().len() == 8).await;
    sessions.sign_out(&devices[4].refresh_token, None).await.expect("signed out");
    assert!(view.check(&checked(&devices[4].access_token), house.now()).is_err());
    assert!(view.check(&checked(&devices[5].access_token), house.now()).is_ok());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_several_instances_know_to_be_lost_is_not_put_back_by_each_of_them() {
    const ENTRIES: usize = 400;
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("sessions.sqlite");
    let open = async || Arc::new(SqliteStore::open(&path).await.expect("a store"));
    let mut views = Vec::new();
    for _ in 0..4 {
        views.push(LiveRevocations::follow(open().await).await.expect("a view"));
    }
    let store = open().await;
    let until = seconds_after(now(), 3_600);
    for number in 0..ENTRIES {
        store.revoke(&Revocation { what: Revoked::Token(format!("t-{number}")), until }).await.expect("revoked");
    }
    let all_know = async |count| views.iter().all(|view| view.known().len() == count);
    soon("all is known", async || all_know(ENTRIES).await).await;

    let pool = sqlx::SqlitePool::connect_with(sqlx::sqlite::SqliteConnectOptions::new().filename(&path)).await;
    sqlx::raw_sql("DELETE FROM vorsel_feed").execute(&pool.expect("the file")).await.expect("a loss");
    store.revoke(&Revocation { what: Revoked::Token("another".to_owned()), until }).await.expect("revoked");
    soon("nothing is lost", async || {
        all_know(ENTRIES + 1).await && views.iter().all(|view| view.figures().epochs == 1 && view.figures().lost == 0)
    })
    .await;
    let feed = feed_of(&*store).await;
    let names: BTreeSet<_> = feed.iter().filter_map(|entry| entry.what.name()).collect();
    assert_eq!(names.len(), ENTRIES + 1);
    assert!(feed.len() < ENTRIES * 3 / 2, "{} entries for {ENTRIES}", feed.len());
}

/// Whatever the machine's clock shows: up to the stated difference in silence, beyond it with a line in the log.
#[tokio::test]
async fn sessions_are_begun_and_ended_in_the_stores_time() {
    for (off_by, expected) in [
        (0, None),
        (29, None),
        (-29, None),
        (31, Some("s behind when held against the store's")),
        (-3_600, Some("s ahead when held against the store's")),
    ] {
        let lines = Lines::default();
        let logging = lines.collect();
        let store: Arc<dyn SessionStore> = Arc::new(Flaky {
            inner: MemoryStore::new(),
            is_down: AtomicBool::new(false),
            reads: AtomicUsize::new(0),
            off_by: Some(off_by),
        });
        let view = LiveRevocations::follow(store.clone()).await.expect("a view");
        drop(logging);
        let measured = view.figures().clock_offset;
        assert!(measured.as_micros().abs_diff(off_by * 1_000_000) < 1_000_000, "{measured}");
        let text = lines.text();
        assert_eq!(text.contains("expected clocks at most 30 s apart"), expected.is_some(), "{text}");
        assert!(expected.is_none_or(|expected| text.contains(expected)), "{text}");

        let house = house(&store);
        let sessions = vorsel::Sessions::builder(common::ISSUER, common::AUDIENCE).keys(house.sessions.keys().clone());
        let sessions = sessions.store(store.clone()).admission(house.book.clone()).revocations(view);
        let sessions = sessions.build().expect("sessions");
        let reply = sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
        let begun = sessions.of_subject("obs-0017").await.expect("a list")[0].facts.started_at;
        assert!(begun.distance(seconds_after(now(), off_by)) < Duration::from_secs(5), "{begun}");
        // A second later, since what begins in the second of a mark is refused.
        tokio::time::sleep(Duration::from_millis(1_100)).await;
        // As an app asks for it that knows only its own clock.
        sessions.end(Which::StartedBefore(now())).await.expect("an end");
        let renewed = sessions.renew(&reply.refresh_token, RenewalRequest::default()).await;
        assert!(matches!(renewed, Err(RenewError::Ended(_))), "{off_by}: {renewed:?}");
        let future = seconds_after(now(), off_by.max(0) + 60);
        assert!(matches!(sessions.end(Which::StartedBefore(future)).await, Err(vorsel::EndError::Future { .. })));
    }
}

/// Whoever asks what the feed has waits for a reading that began later, shared with all who asked meanwhile, and for no other, also
/// while the store answers nobody.
#[tokio::test(flavor = "multi_thread")]
async fn many_who_ask_at_once_share_a_reading() {
    let flaky =
        Flaky { inner: MemoryStore::new(), is_down: AtomicBool::new(false), reads: AtomicUsize::new(0), off_by: None };
    let store = Arc::new(flaky);
    let view = LiveRevocations::follow(store.clone()).await.expect("a view");
    for is_down in [false, true] {
        store.is_down.store(is_down, Ordering::Relaxed);
        let before = store.reads.load(Ordering::Relaxed);
        let asked: Vec<_> = (0..64)
            .map(|_| {
                let view = view.clone();
                tokio::spawn(async move { view.catch_up().await.is_err() })
            })
            .collect();
        for answer in asked {
            assert_eq!(answer.await.expect("no panic"), is_down);
        }
        // Those of whoever follows the feed included.
        let reads = store.reads.load(Ordering::Relaxed) - before;
        assert!((1..=8).contains(&reads), "{reads} readings for 64 who asked");
    }
}
