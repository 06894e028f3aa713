//! Rotation on every store: one new generation however many renew at once, the same successor for a retry, the end of
//! the session for a replay.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use vorsel::store::{MemoryStore, PostgresStore, RedisStore, SessionStore, SqliteStore, Which};
use vorsel::{AdmissionError, EndReason, IssueError, RenewError, RenewalRequest, Scopes, SignIn, StartError};

mod common;
mod servers;
use common::{Entry, House, START, WINDOW, house, houses};
use servers::{Kind, shared};

const PLAIN: RenewalRequest<'_> = RenewalRequest { client_id: None, scopes: None };

/// Runs a test over every store.
macro_rules! on_every_store {
    ($($test:ident)*) => {
        mod memory {
            use super::*;
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                super::$test(Arc::new(MemoryStore::new())).await;
            })*
        }
        mod sqlite {
            use super::*;
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                let folder = tempfile::tempdir().expect("a folder");
                let store = SqliteStore::open(folder.path().join("sessions.sqlite")).await.expect("a store");
                super::$test(Arc::new(store)).await;
            })*
        }
        mod postgres {
            use super::*;
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                let Some(server) = shared(Kind::Postgres) else { return };
                let store = PostgresStore::connect(&server.empty_database()).await.expect("a store");
                super::$test(Arc::new(store)).await;
            })*
        }
        mod redis {
            use super::*;
            $(#[tokio::test(flavor = "multi_thread")]
            async fn $test() {
                let Some(server) = shared(Kind::Redis) else { return };
                let store = RedisStore::connect(&server.empty_database()).await.expect("a store");
                super::$test(Arc::new(store)).await;
            })*
        }
    };
}

on_every_store! {
    many_renewals_at_once_make_one_generation
    a_retry_gets_the_same_successor_and_a_replay_ends_the_session
    a_strict_window_ends_the_session_at_the_first_repeat
    roles_are_looked_up_afresh_at_each_renewal
    who_is_not_admitted_any_more_is_signed_out
    roles_that_make_too_large_a_token_spend_no_token
    signing_out_ends_this_session_alone
    sessions_end_by_the_app_s_decision
    scopes_can_be_narrowed_for_one_token_and_not_widened
    scopes_stay_under_the_ceiling_of_the_sign_in
    a_token_of_another_client_is_refused_and_nothing_changes
    sessions_expire
    what_was_asked_for_is_carried_out_whoever_goes_away
    a_look_up_that_takes_longer_than_the_window_makes_no_replay
}

async fn start(house: &House) -> String {
    house.sessions.start(SignIn::new("obs-0017", "desk").device("laptop")).await.expect("a session").refresh_token
}

async fn renew(house: &House, token: &str) -> Result<String, RenewError> {
    house.sessions.renew(token, PLAIN).await.map(|reply| reply.refresh_token)
}

async fn only_session(store: &dyn SessionStore) -> vorsel::Session {
    let mut sessions = store.of_subject("obs-0017").await.expect("list");
    assert_eq!(sessions.len(), 1);
    sessions.remove(0)
}

async fn many_renewals_at_once_make_one_generation(store: Arc<dyn SessionStore>) {
    let houses = houses(&store, 4, WINDOW);
    let verifier = houses[0].verifier();
    let mut token = start(&houses[0]).await;
    for generation in 1..=5 {
        let renewals: Vec<_> = (0..64)
            .map(|caller| {
                let (sessions, token) = (houses[caller % houses.len()].sessions.clone(), token.clone());
                tokio::spawn(async move { sessions.renew(&token, PLAIN).await })
            })
            .collect();
        let mut successors = BTreeSet::new();
        for renewal in renewals {
            let reply = renewal.await.expect("no panic").expect("a usable answer for everybody");
            verifier.check(&reply.access_token, houses[0].now()).expect("a usable access token");
            successors.insert(reply.refresh_token);
        }
        assert_eq!(successors.len(), 1, "one successor for everybody");
        assert_eq!(only_session(&*store).await.current.number, generation);
        token = successors.pop_first().expect("a successor");
        houses[0].clock.advance(WINDOW);
    }
}

async fn a_retry_gets_the_same_successor_and_a_replay_ends_the_session(store: Arc<dyn SessionStore>) {
    let houses = houses(&store, 2, WINDOW);
    let first = start(&houses[0]).await;
    houses[0].clock.advance(Duration::from_millis(1_500));
    let second = renew(&houses[0], &first).await.expect("a successor");
    houses[0].clock.advance(WINDOW - Duration::from_micros(1));
    assert_eq!(renew(&houses[1], &first).await.expect("a retry"), second, "any instance gives the same successor");
    houses[0].clock.advance(Duration::from_micros(1));
    let replay = renew(&houses[1], &first).await.expect_err("a replay");
    assert!(matches!(replay, RenewError::Replay { presented: 0, current: 1 }), "{replay}");
    for token in [&first, &second] {
        let error = renew(&houses[0], token).await.expect_err("an ended session");
        assert!(matches!(error, RenewError::Ended(EndReason::Replay)), "{error}");
    }
}

async fn a_strict_window_ends_the_session_at_the_first_repeat(store: Arc<dyn SessionStore>) {
    let house = houses(&store, 1, Duration::ZERO).remove(0);
    let first = start(&house).await;
    let second = renew(&house, &first).await.expect("a successor");
    assert!(matches!(renew(&house, &first).await, Err(RenewError::Replay { .. })));
    assert!(matches!(renew(&house, &second).await, Err(RenewError::Ended(EndReason::Replay))));
}

async fn roles_are_looked_up_afresh_at_each_renewal(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Roles(vec!["operator"]));
    let reply = house.sessions.renew(&token, PLAIN).await.expect("a successor");
    let checked = house.verifier().check(&reply.access_token, house.now()).expect("accepted");
    assert!(checked.claims().roles().eq(["operator"]));
    assert_eq!((reply.token_type, reply.expires_in, reply.scope.as_str()), ("Bearer", 300, "exposures:read logs:read"));
}

async fn who_is_not_admitted_any_more_is_signed_out(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    let set = |entry| house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), entry);
    set(Entry::Unavailable);
    let error = renew(&house, &token).await.expect_err("nobody can tell");
    assert!(matches!(error, RenewError::Admission(AdmissionError::Unavailable(_))), "{error}");
    assert_eq!(only_session(&*store).await.current.number, 0, "the client may try again");
    set(Entry::Denied);
    assert!(matches!(renew(&house, &token).await, Err(RenewError::Admission(AdmissionError::Denied { .. }))));
    set(Entry::Roles(vec!["observer"]));
    assert!(matches!(renew(&house, &token).await, Err(RenewError::Ended(EndReason::NotAdmitted))));
    assert!(matches!(house.sessions.start(SignIn::new("dir-0001", "desk")).await, Err(StartError::Admission(_))));
}

async fn roles_that_make_too_large_a_token_spend_no_token(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    let set = |roles| house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Roles(roles));
    set(vec!["observer"; 2_000]);
    let error = renew(&house, &token).await.expect_err("no verifier would look at it");
    assert!(matches!(error, RenewError::Issue(IssueError::TooLarge { .. })), "{error}");
    assert_eq!(only_session(&*store).await.current.number, 0);
    house.clock.advance(WINDOW * 10);
    set(vec!["observer"]);
    renew(&house, &token).await.expect("its holder may come back however late");
}

async fn signing_out_ends_this_session_alone(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let (here, there) = (start(&house).await, start(&house).await);
    assert!(house.sessions.sign_out(&here, Some("somebody-else")).await.is_err(), "RFC 7009 section 2.1");
    house.sessions.sign_out("not a token", None).await.expect("nothing to do");
    let newest = renew(&house, &here).await.expect("still there");
    house.sessions.sign_out(&here, Some("desk")).await.expect("a spent token of the session signs out as well");
    assert!(matches!(renew(&house, &newest).await, Err(RenewError::Ended(EndReason::SignedOut))));
    renew(&house, &there).await.expect("the other device is still signed in");
    assert_eq!(house.sessions.of_subject("obs-0017").await.expect("list").len(), 1);
}

async fn sessions_end_by_the_app_s_decision(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let tokens = [start(&house).await, start(&house).await];
    let listed = house.sessions.of_subject("obs-0017").await.expect("list");
    assert_eq!(listed.iter().map(|session| session.facts.device.as_deref()).collect::<Vec<_>>(), [Some("laptop"); 2]);
    assert_eq!(house.sessions.end(Which::OfSubject("obs-0017")).await.expect("end"), Some(2));
    for token in tokens {
        assert!(matches!(renew(&house, &token).await, Err(RenewError::Ended(EndReason::Withdrawn))));
    }
}

async fn scopes_can_be_narrowed_for_one_token_and_not_widened(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    let scopes = |text: &str| Scopes::parse(text).expect("scopes");
    let (wide, narrow) = (scopes("logs:read dome:move"), scopes("logs:read"));
    let asked = RenewalRequest { scopes: Some(&wide), ..PLAIN };
    assert!(matches!(house.sessions.renew(&token, asked).await, Err(RenewError::ScopeNotGranted { .. })));
    let asked = RenewalRequest { scopes: Some(&narrow), ..PLAIN };
    let reply = house.sessions.renew(&token, asked).await.expect("fewer scopes");
    assert_eq!(reply.scope, "logs:read");
    let reply = house.sessions.renew(&reply.refresh_token, PLAIN).await.expect("all scopes again");
    assert_eq!(reply.scope, "exposures:read logs:read");
}

async fn scopes_stay_under_the_ceiling_of_the_sign_in(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let scopes = |text: &str| Scopes::parse(text).expect("scopes");
    let sign_in = SignIn::new("obs-0017", "desk").scopes(scopes("logs:read dome:move"));
    let first = house.sessions.start(sign_in).await.expect("a session");
    assert_eq!(first.scope, "logs:read", "what is granted now, of what was asked for then");
    // Another instance has only the store to go by.
    let other = house.set_up(|sessions| sessions);
    let second = other.sessions.renew(&first.refresh_token, PLAIN).await.expect("a successor");
    assert_eq!(second.scope, "logs:read");
    let checked = other.verifier().check(&second.access_token, other.now()).expect("accepted");
    assert!(checked.claims().scopes().eq(["logs:read"]));
    let (granted, beyond) = (
        scopes("exposures:read"),
        RenewError::ScopeNotGranted { granted: "logs:read".to_owned(), asked: "exposures:read".to_owned() },
    );
    let asked = RenewalRequest { scopes: Some(&granted), ..PLAIN };
    let error = other.sessions.renew(&second.refresh_token, asked).await.expect_err("beyond the ceiling");
    assert_eq!(error.to_string(), beyond.to_string());
}

async fn a_token_of_another_client_is_refused_and_nothing_changes(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    let other = RenewalRequest { client_id: Some("phone"), ..PLAIN };
    assert!(matches!(house.sessions.renew(&token, other).await, Err(RenewError::WrongClient { .. })));
    let own = RenewalRequest { client_id: Some("desk"), ..PLAIN };
    let reply = house.sessions.renew(&token, own).await.expect("a successor");
    assert!(matches!(renew(&house, &reply.access_token).await, Err(RenewError::BadToken(_))), "an access token");
    assert!(matches!(renew(&house, "").await, Err(RenewError::BadToken(_))));
}

async fn sessions_expire(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    house.clock.advance(Duration::from_secs(14 * 86_400));
    let error = renew(&house, &token).await.expect_err("an expired session");
    assert!(matches!(error, RenewError::Expired | RenewError::BadToken(_)), "{error}");
    assert!(house.sessions.of_subject("obs-0017").await.expect("list").is_empty());
}

/// An instance knows the tokens again that it made, which spares a check of them. That changes no answer.
#[tokio::test]
async fn a_token_gets_the_same_answer_where_it_was_made_and_elsewhere() {
    const IDLE: Duration = Duration::from_secs(14 * 86_400);
    let pause = Duration::from_micros(654_321);
    for passed in [Duration::ZERO, IDLE - Duration::from_secs(1), IDLE - pause, IDLE, IDLE + pause, IDLE * 2] {
        let answers = async |at: usize| {
            let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
            let houses = houses(&store, 2, WINDOW);
            houses[0].clock.advance(pause);
            let (token, other) = (start(&houses[0]).await, start(&houses[0]).await);
            houses[0].clock.advance(passed);
            let sessions = &houses[at].sessions;
            let of_another = RenewalRequest { client_id: Some("kiosk"), scopes: None };
            let found = [
                sessions.renew(&format!("A{token}"), PLAIN).await,
                sessions.renew(&format!("{token}="), PLAIN).await,
                sessions.renew(&token, PLAIN).await,
                sessions.renew(&token, PLAIN).await,
                sessions.renew(&other, of_another).await,
                sessions.renew(&other, PLAIN).await,
            ];
            found.map(|answer| answer.map_or_else(|error| error.to_string(), |reply| reply.scope))
        };
        assert_eq!(answers(0).await, answers(1).await, "{passed:?}");
    }
}

#[tokio::test]
async fn a_withdrawn_key_refuses_a_token_also_where_it_was_made() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let tokens = [start(&house).await, start(&house).await];
    let second = renew(&house, &tokens[0]).await.expect("a successor");
    let keys = &house.sessions.keys().refresh;
    let id = keys.current().keys()[0].key_id().to_owned();
    keys.change(|ring| ring.compromise(&id, START)).expect("withdrawn");
    for token in [&second, &tokens[1]] {
        let error = renew(&house, token).await.expect_err("a withdrawn key");
        assert!(error.to_string().contains("which is compromised"), "{error}");
    }
}

#[tokio::test]
async fn replies_and_errors_show_no_token() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let reply = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    let error = house.sessions.renew(&reply.access_token, PLAIN).await.expect_err("not a refresh token");
    let shown = format!("{reply:?} {error} {error:?} {:?}", house.sessions);
    for token in [&reply.access_token, &reply.refresh_token] {
        let payload = token.split('.').nth(1).expect("a token");
        assert!(!shown.contains(payload), "{shown}");
    }
}

async fn what_was_asked_for_is_carried_out_whoever_goes_away(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let token = start(&house).await;
    for _ in 0..2 {
        // Polled once, as by a server whose client hangs up, and dropped.
        let _ = tokio::time::timeout(Duration::ZERO, house.sessions.sign_out(&token, None)).await;
    }
    house.sessions.settled().await;
    assert_eq!(only_session(&*store).await.ended.map(|ended| ended.why), Some(EndReason::SignedOut));
}

/// Looks people up for eleven seconds.
struct Slow(Arc<common::Book>, Arc<vorsel::testing::StillClock>);

#[async_trait::async_trait]
impl vorsel::Admission<vorsel::NoOwn> for Slow {
    async fn admit(&self, subject: &str, client: &str) -> Result<vorsel::Grant<vorsel::NoOwn>, AdmissionError> {
        self.1.advance(Duration::from_secs(11));
        self.0.admit(subject, client).await
    }
}

/// Whoever comes again right after the answer finds the window open.
async fn a_look_up_that_takes_longer_than_the_window_makes_no_replay(store: Arc<dyn SessionStore>) {
    let house = house(&store);
    let (token, slow) = (start(&house).await, Arc::new(Slow(house.book.clone(), house.clock.clone())));
    let house = house.set_up(|sessions| sessions.admission(slow));
    let first = renew(&house, &token).await.expect("a successor");
    assert_eq!(renew(&house, &token).await.expect("the same"), first, "it was spent when it was written");
}

/// Each renewal and each refusal is counted once, under its reason.
#[tokio::test]
async fn what_came_of_sign_ins_and_renewals_is_counted_by_reason() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let sessions = &house.sessions;
    let first = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session");
    assert!(sessions.start(SignIn::new("vis-0003", "desk")).await.is_err());
    let second = sessions.renew(&first.refresh_token, PLAIN).await.expect("a renewal");
    assert!(sessions.renew(&first.refresh_token, PLAIN).await.is_ok());
    let other = RenewalRequest { client_id: Some("another"), scopes: None };
    assert!(sessions.renew(&second.refresh_token, other).await.is_err());
    assert!(sessions.renew("no token", PLAIN).await.is_err());
    house.clock.advance(WINDOW * 2);
    for _ in 0..2 {
        assert!(sessions.renew(&first.refresh_token, PLAIN).await.is_err());
    }
    let figures = sessions.figures();
    assert_eq!((figures.started, figures.renewed, figures.repeated), (1, 1, 1));
    let counted = |all: &[(&'static str, u64)]| all.iter().copied().filter(|(_, count)| *count > 0).collect::<Vec<_>>();
    assert_eq!(counted(&figures.not_started), [("not-admitted", 1)]);
    assert_eq!(counted(&figures.not_renewed), [("bad-token", 1), ("wrong-client", 1), ("ended", 1), ("replay", 1)]);
}

/// As after a fail-over to a standby that has not heard of the last two renewals, on an instance that made none of them.
#[tokio::test(flavor = "multi_thread")]
async fn a_token_that_the_store_has_lost_moves_its_session_on() {
    async fn goes_on(store: Arc<dyn SessionStore>, lose: impl AsyncFn(&str)) {
        let [one, other] = <[House; 2]>::try_from(houses(&store, 2, WINDOW)).unwrap_or_else(|_| unreachable!());
        let first = one.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
        let second = one.sessions.renew(&first, PLAIN).await.expect("renewed").refresh_token;
        let third = one.sessions.renew(&second, PLAIN).await.expect("renewed").refresh_token;
        let id = store.page(None, 10).await.expect("a page")[0].id.clone();
        lose(&id).await;
        assert_eq!(store.load(&id).await.expect("load").expect("the session").current.number, 0);
        let fourth = other.sessions.renew(&third, PLAIN).await.expect("it moves on").refresh_token;
        assert_eq!(other.sessions.renew(&third, PLAIN).await.expect("again").refresh_token, fourth);
        other.clock.advance(WINDOW * 2);
        assert!(other.sessions.renew(&fourth, PLAIN).await.is_ok());
        other.clock.advance(WINDOW * 2);
        // Whoever has a token from before is found out.
        assert!(matches!(other.sessions.renew(&second, PLAIN).await, Err(RenewError::Replay { .. })));
    }
    if let Some(server) = shared(Kind::Postgres) {
        let url = server.empty_database();
        let pool = sqlx::PgPool::connect(&url).await.expect("a pool");
        goes_on(Arc::new(PostgresStore::connect(&url).await.expect("a store")), async |_| {
            let lost = "UPDATE vorsel_sessions SET generation = 0, spent = ''";
            sqlx::query(lost).execute(&pool).await.expect("lost");
        })
        .await;
    }
    if let Some(server) = shared(Kind::Redis) {
        let url = server.empty_database();
        let client = ::redis::Client::open(url.clone()).expect("an address");
        goes_on(Arc::new(RedisStore::connect(&url).await.expect("a store")), async |id| {
            let mut connection = client.get_multiplexed_async_connection().await.expect("a connection");
            let mut lose = ::redis::cmd("HDEL");
            lose.arg(format!("vorsel:line:{id}")).arg(1).arg(2);
            lose.exec_async(&mut connection).await.expect("lost");
        })
        .await;
    }
}
