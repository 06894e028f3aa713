//! The ready sign-in over real HTTP.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use base64_simd::STANDARD;
use serde_json::{Value, json};
use vorsel::endpoints::{Endpoints, Known, NotYet, PasswordSignIn, SignInSoFar};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{
    Beyond, Budget, MemoryThrottle, NoOwn, PasswordLimits, PerSubject, SessionLimits, SignIn, ThrottleLimits,
    hash_password,
};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{Entry, House, house};
use wire::{Answer, Wire};

/// What the tests change about a house where people sign in.
struct Set {
    sign_in: PasswordSignIn,
    throttle: ThrottleLimits,
    limits: SessionLimits,
    proxies: usize,
}

fn usual() -> Set {
    let hash = hash_password("a dome in the rain").expect("a hash");
    let sign_in = PasswordSignIn::new(move |typed: String| {
        let is_known = matches!(typed.to_lowercase().as_str(), "wren" | "obs-0017");
        let known =
            is_known.then(|| Known::new("obs-0017", &hash).member("nickname", "Wren").member("scope", "x").acr("pwd"));
        async move { if typed == "broken" { Err("the directory is down".into()) } else { Ok(known) } }
    });
    let many = Budget::new(1_000, Duration::from_secs(60));
    let throttle = ThrottleLimits { subject: many, address: many, client: many, known: many, most: 1_000 };
    Set { sign_in, throttle, limits: SessionLimits::default(), proxies: 0 }
}

async fn set_up(set: Set) -> (House, Wire) {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store).set_up(|sessions| sessions.limits(set.limits));
    let throttle = MemoryThrottle::by(set.throttle, house.clock.clone()).expect("randomness");
    let wire = Wire::endpoints(&house, |endpoints: Endpoints<NoOwn>| {
        let endpoints = endpoints.sign_in(set.sign_in).throttle(throttle);
        if set.proxies > 0 { endpoints.forwarded("x-forwarded-for", set.proxies) } else { endpoints }
    });
    let wire = wire.await;
    (house, wire)
}

impl Wire {
    async fn sign_in(&self, body: &Value) -> Answer {
        self.send(self.http.post(self.at("/oauth/sign-in")).json(body)).await
    }

    /// From an address that a proxy tells of.
    async fn sign_in_from(&self, address: &str, body: &Value) -> Answer {
        let request = self.http.post(self.at("/oauth/sign-in")).header("x-forwarded-for", address);
        self.send(request.json(body)).await
    }
}

fn body(subject: &str, password: &str) -> Value {
    json!({ "client_id": "desk", "subject": subject, "password": password })
}

const RIGHT: &str = "a dome in the rain";

#[tokio::test]
async fn somebody_signs_in_by_json_by_form_or_by_header() {
    let (house, wire) = set_up(usual()).await;
    let by_json = wire.sign_in(&body("Wren", RIGHT)).await;
    let by_form = wire.post("/oauth/sign-in", &[("client_id", "desk"), ("subject", "wren"), ("password", RIGHT)]).await;
    let header = format!("Basic {}", STANDARD.encode_to_string(format!("obs-0017:{RIGHT}")));
    let by_header = wire.post_with("/oauth/sign-in", ("authorization", &header), &[("client_id", "desk")]).await;
    for answer in [by_json, by_form, by_header] {
        assert_eq!((answer.status, answer.header("cache-control")), (200, "no-store"), "{answer:?}");
        assert_eq!(
            (answer.text("nickname").as_str(), answer.text("scope").as_str()),
            ("Wren", "exposures:read logs:read")
        );
        assert!(!answer.text("device_mark").is_empty());
        let checked = house.verifier().check(answer.text("access_token"), house.now()).expect("an accepted token");
        assert_eq!((checked.claims().subject(), checked.claims().acr()), (Some("obs-0017"), Some("pwd")));
        let renewal =
            [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", &answer.text("refresh_token"))];
        assert_eq!(wire.post("/oauth/token", &renewal).await.status, 200);
    }
}

#[tokio::test]
async fn wrong_sign_ins_get_clear_answers_that_tell_nobody_who_is_known() {
    let (house, wire) = set_up(usual()).await;
    let both = format!("Basic {}", STANDARD.encode_to_string(format!("wren:{RIGHT}")));
    for (what, sent, status, error) in [
        ("a wrong password", body("wren", "x"), 400, "invalid_grant"),
        ("nobody", body("nobody", RIGHT), 400, "invalid_grant"),
        ("no password", json!({ "client_id": "desk", "subject": "wren" }), 400, "invalid_request"),
        ("an empty password", body("wren", ""), 400, "invalid_request"),
        ("a number", json!({ "client_id": "desk", "subject": "wren", "password": 1 }), 400, "invalid_request"),
        ("no client", json!({ "subject": "wren", "password": RIGHT }), 400, "invalid_request"),
        ("a list", json!([]), 400, "invalid_request"),
        (
            "no scopes",
            json!({ "client_id": "desk", "subject": "wren", "password": RIGHT, "scope": "a  b" }),
            400,
            "invalid_scope",
        ),
        ("an app that can't tell", body("broken", RIGHT), 503, "temporarily_unavailable"),
    ] {
        let answer = wire.sign_in(&sent).await;
        assert_eq!((answer.status, answer.error()), (status, error), "{what}");
        if error == "invalid_grant" {
            assert_eq!(answer.body, json!({ "error": "invalid_grant" }), "{what}");
        }
    }
    let twice = "{\"client_id\": \"desk\", \"subject\": \"wren\", \"subject\": \"obs-0017\", \"password\": \"x\"}";
    let request = wire.http.post(wire.at("/oauth/sign-in")).header("content-type", "application/json");
    assert_eq!(wire.send(request.body(twice)).await.error(), "invalid_request");
    for (others, error) in [(64 - 3, "invalid_grant"), (64 - 2, "invalid_request")] {
        let mut sent = body("wren", "x");
        (0..others).for_each(|number| sent[format!("x{number}")] = "y".into());
        assert_eq!(wire.sign_in(&sent).await.error(), error, "{others} others");
    }
    let form = [("client_id", "desk"), ("subject", "wren"), ("password", RIGHT)];
    assert_eq!(wire.post_with("/oauth/sign-in", ("authorization", &both), &form).await.error(), "invalid_request");
    assert_eq!(wire.post_with("/oauth/sign-in", ("authorization", "Bearer x"), &form).await.error(), "invalid_request");
    house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Denied);
    assert_eq!(wire.sign_in(&body("wren", RIGHT)).await.error(), "invalid_grant", "not admitted");
}

#[tokio::test]
async fn the_app_has_its_say_once_the_password_was_right_and_not_before() {
    let asked = Arc::new(Mutex::new(Vec::new()));
    let heard = asked.clone();
    let mut set = usual();
    set.sign_in = set.sign_in.then(move |so_far: SignInSoFar| {
        heard.lock().expect("no panic").push(so_far.subject.clone());
        async move {
            match so_far.field("code") {
                None => Err(NotYet::due("second_factor_due")),
                Some("271828") => Ok(()),
                Some(_) => Err(NotYet::wrong("second_factor_wrong")),
            }
        }
    });
    set.throttle.subject = Budget::new(3, Duration::from_secs(60));
    let (_, wire) = set_up(set).await;
    assert_eq!(wire.sign_in(&body("wren", "x")).await.body, json!({ "error": "invalid_grant" }));
    assert!(asked.lock().expect("no panic").is_empty());
    let with_code = |code: &str| json!({ "client_id": "desk", "subject": "wren", "password": RIGHT, "code": code });
    for _ in 0..5 {
        let due = wire.sign_in(&body("wren", RIGHT)).await;
        assert_eq!(due.body, json!({ "error": "invalid_grant", "reason": "second_factor_due" }), "it counts not");
    }
    assert_eq!(wire.sign_in(&with_code("271828")).await.status, 200);
    for _ in 0..2 {
        assert_eq!(wire.sign_in(&with_code("1")).await.text("reason"), "second_factor_wrong");
    }
    let known = wire.sign_in(&with_code("271828")).await;
    assert_eq!(known.status, 200, "the budget is spent, but the address got in before");
}

#[tokio::test]
async fn too_many_devices_have_a_reason_of_their_own() {
    let mut set = usual();
    set.limits.per_subject = Some(PerSubject { most: 1.try_into().expect("one"), beyond: Beyond::Refuse });
    let (_, wire) = set_up(set).await;
    assert_eq!(wire.sign_in(&body("wren", RIGHT)).await.status, 200);
    let answer = wire.sign_in(&body("wren", RIGHT)).await;
    assert_eq!(answer.body, json!({ "error": "invalid_grant", "reason": "too_many_sessions" }));
}

#[tokio::test]
async fn a_weak_hash_is_made_anew_for_the_app() {
    let kept = Arc::new(Mutex::new(None));
    let (keep, weak) = (kept.clone(), "$argon2id$v=19$m=64,t=1,p=1$MDEyMzQ1Njc4OWFiY2RlZg$");
    let argon2 = argon2::Argon2::new(
        argon2::Algorithm::Argon2id,
        argon2::Version::V0x13,
        argon2::Params::new(64, 1, 1, None).expect("parameters"),
    );
    let hash = argon2::PasswordHasher::hash_password_with_salt(&argon2, RIGHT.as_bytes(), b"0123456789abcdef");
    let hash = hash.expect("a hash").to_string();
    assert!(hash.starts_with(weak), "{hash}");
    let sign_in = PasswordSignIn::new(move |_| {
        let known = Known::new("obs-0017", &hash);
        async { Ok(Some(known)) }
    });
    let sign_in = sign_in.renew_hash(move |subject, hash| {
        *keep.lock().expect("no panic") = Some((subject, hash));
        async { Ok(()) }
    });
    let (_, wire) = set_up(Set { sign_in, ..usual() }).await;
    assert_eq!(wire.sign_in(&body("wren", "x")).await.error(), "invalid_grant");
    assert_eq!(wire.sign_in(&body("wren", RIGHT)).await.status, 200);
    for _ in 0..500 {
        if kept.lock().expect("no panic").is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let (subject, hash) = kept.lock().expect("no panic").clone().expect("a new hash");
    assert_eq!(subject, "obs-0017");
    let checked = vorsel::Passwords::default().check(RIGHT, Some(&hash)).await;
    assert_eq!(checked, Ok(vorsel::PasswordVerdict::Right { is_outdated: false }));
}

/// The default is a bounded queue; here it is none at all.
#[tokio::test]
async fn sign_ins_beyond_the_queue_are_told_to_come_again() {
    let mut set = usual();
    let (threads, longest_wait) = (1.try_into().expect("one"), Duration::from_secs(10));
    set.sign_in = set.sign_in.limits(PasswordLimits { threads, memory_mib: 20, queue: 0, longest_wait });
    let (_, wire) = set_up(set).await;
    let sent = body("wren", RIGHT);
    let answers = futures_util::future::join_all((0..6).map(|_| wire.sign_in(&sent))).await;
    let busy: Vec<_> = answers.iter().filter(|answer| answer.status == 503).collect();
    assert!(!busy.is_empty() && busy.len() < 6, "{answers:?}");
    assert!(busy.iter().all(|answer| answer.header("retry-after") == "1"));
    assert_eq!(wire.sign_in(&sent).await.status, 200);
}

#[tokio::test]
async fn guessers_are_throttled_and_the_owner_still_gets_in() {
    let mut set = usual();
    set.proxies = 1;
    let minute = Duration::from_secs(60);
    set.throttle = ThrottleLimits {
        subject: Budget::new(5, minute),
        address: Budget::new(8, minute),
        known: Budget::new(2, minute),
        ..set.throttle
    };
    let (house, wire) = set_up(set).await;
    let owner = wire.sign_in_from("10.0.0.1", &body("wren", RIGHT)).await;
    let mark = owner.text("device_mark");

    // Many at once are no way around it; known and unknown subjects are throttled alike.
    for subject in ["wren", "obs-0017", "nobody"] {
        let (guess, house_number) = (body(subject, "x"), subject.len());
        let guesses = (0..12).map(|number| format!("10.{house_number}.0.{number}"));
        let answers = futures_util::future::join_all(
            guesses.collect::<Vec<_>>().iter().map(|from| wire.sign_in_from(from, &guess)),
        )
        .await;
        let tried = answers.iter().filter(|answer| answer.error() == "invalid_grant").count();
        assert_eq!(
            tried,
            if subject == "obs-0017" { 0 } else { 5 },
            "{subject}: the subject is one, however it is typed"
        );
        let blocked = answers.iter().find(|answer| answer.status == 429).expect("one that was blocked");
        let wait: u64 = blocked.header("retry-after").parse().expect("seconds");
        assert!((1..=61).contains(&wait), "{wait}");
    }
    assert_eq!(wire.sign_in_from("10.66.0.1", &body("wren", RIGHT)).await.status, 429, "nobody else gets in now");
    assert_eq!(
        wire.sign_in_from("10.0.0.1", &body("wren", RIGHT)).await.status,
        200,
        "the owner, from where they were"
    );
    let mut marked = body("wren", RIGHT);
    marked["device_mark"] = json!(mark);
    let elsewhere = wire.sign_in_from("10.66.0.2", &marked).await;
    assert_eq!(
        (elsewhere.status, elsewhere.text("device_mark").as_str()),
        (200, ""),
        "or on the device, which keeps its mark"
    );

    // One address that tries many.
    let mut statuses = Vec::new();
    for number in 0..10 {
        statuses.push(wire.sign_in_from("10.77.0.1", &body(&format!("nobody-{number}"), "x")).await.status);
    }
    assert_eq!(statuses, [[400; 8].as_slice(), &[429; 2]].concat());
    house.clock.advance(minute);
    assert_eq!(wire.sign_in_from("10.77.0.1", &body("nobody-11", "x")).await.status, 400, "one came back");
}

#[tokio::test]
async fn right_passwords_count_not_however_many_come_at_once() {
    let mut set = usual();
    let few = Budget::new(3, Duration::from_secs(600));
    set.throttle = ThrottleLimits { subject: few, address: few, ..set.throttle };
    let (_, wire) = set_up(set).await;
    let sent = body("wren", RIGHT);
    let answers = futures_util::future::join_all((0..24).map(|_| wire.sign_in(&sent))).await;
    assert!(
        answers.iter().all(|answer| answer.status == 200),
        "{:?}",
        answers.iter().map(|a| a.status).collect::<Vec<_>>()
    );
}

#[tokio::test]
async fn bad_refresh_tokens_are_throttled_by_address_and_good_ones_do_not_count() {
    let mut set = usual();
    set.throttle.address = Budget::new(4, Duration::from_secs(60));
    let (house, wire) = set_up(set).await;
    let mut token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    for _ in 0..6 {
        let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", token.as_str())];
        token = wire.post("/oauth/token", &form).await.text("refresh_token");
    }
    let bad = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", "x")];
    for status in [400, 400, 400, 400, 429, 429] {
        assert_eq!(wire.post("/oauth/token", &bad).await.status, status);
    }
}

/// The plan asks for a sign-in within ten minutes; the session goes on.
#[tokio::test]
async fn somebody_signs_in_again_inside_their_session_and_keeps_it() {
    let (house, wire) = set_up(usual()).await;
    let claims = |answer: &Answer| {
        let checked = house.verifier().check(answer.text("access_token"), house.now()).expect("an accepted token");
        let claims = checked.claims();
        (claims.session_id().expect("a session").to_owned(), claims.authenticated_at().expect("a time"))
    };
    let first = wire.sign_in(&body("wren", RIGHT)).await;
    let (session, at) = claims(&first);
    house.clock.advance(Duration::from_secs(1_200));
    let mut again = body("wren", RIGHT);
    again["refresh_token"] = json!(first.text("refresh_token"));
    let mut wrong = again.clone();
    wrong["password"] = json!("x");
    assert_eq!(wire.sign_in(&wrong).await.error(), "invalid_grant");
    let second = wire.sign_in(&again).await;
    let (same, later) = claims(&second);
    assert_eq!((same, later), (session.clone(), at.after(Duration::from_secs(1_200))));
    assert_ne!(first.text("refresh_token"), second.text("refresh_token"), "it was spent");
    let form = |token: String| {
        [("grant_type", "refresh_token".to_owned()), ("client_id", "desk".to_owned()), ("refresh_token", token)]
    };
    let renew = async |token: String| {
        let request = wire.http.post(wire.at("/oauth/token")).form(&form(token));
        wire.send(request).await
    };
    let third = renew(second.text("refresh_token")).await;
    assert_eq!(claims(&third), (session.clone(), later), "and a renewal says so, too");

    // A spent token, nonsense, or another subject's: a session of its own.
    let other = house.sessions.start(SignIn::new("obs-0099", "desk")).await.err();
    assert!(other.is_some(), "nobody of this name");
    house.book.0.lock().expect("no panic").insert("ope-0002".to_owned(), Entry::Roles(vec![]));
    let theirs = house.sessions.start(SignIn::new("ope-0002", "desk")).await.expect("a session").refresh_token;
    for shown in [first.text("refresh_token"), "nonsense".to_owned(), theirs.clone()] {
        again["refresh_token"] = json!(shown);
        let answer = wire.sign_in(&again).await;
        assert_eq!(answer.status, 200);
        assert_ne!(claims(&answer).0, session);
    }
    assert_eq!(renew(theirs).await.status, 200, "the other's session is as it was");
    assert_eq!(house.sessions.of_subject("obs-0017").await.expect("sessions").len(), 4);
}
