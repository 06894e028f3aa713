//! Keyrings: which key is in which state when, which steps are refused, and that rolling never costs a token.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::{
    AccessDraft, Algorithm, Expectations, IssueError, Issuer, KeySet, KeyState, KeyTimes, Keyring, Lifetime, Secret,
    SigningKey, StepError, Timestamp, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const START: Timestamp = Timestamp::from_secs(1_700_000_000);
/// Published until the new key signs: cache time and spread.
const PUBLISHED: Duration = Duration::from_secs(310);
/// Deactivated until all is expired: lifetime, the largest skew, and the spread.
const LAST: Duration = Duration::from_secs(600 + 300 + 10);
const SECOND: Duration = Duration::from_secs(1);

fn times() -> KeyTimes {
    KeyTimes { longest_lifetime: Lifetime::minutes(10), ..KeyTimes::default() }
}

/// A quick key, told apart by its ID.
fn key(kid: &str) -> SigningKey {
    let start = kid.bytes().fold(7_u8, u8::wrapping_add);
    let bytes = (0..32).map(|index| start.wrapping_add(index)).collect();
    SigningKey::hmac(Algorithm::Hs256, Secret::new(bytes)).expect("a secret").named(kid)
}

fn ring() -> Keyring {
    Keyring::new(key("first"), times(), START)
}

fn issue(ring: &Keyring, lifetime: Lifetime, now: Timestamp) -> Result<String, IssueError> {
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(lifetime);
    Issuer::new(ISSUER, ring.clone()).access(&draft, "t1", now)
}

fn check(keys: &KeySet, token: &str, now: Timestamp) -> Result<(), String> {
    let verifier = Verifier::new(keys.clone(), Expectations::access(ISSUER, AUDIENCE));
    verifier.check(token, now).map(drop).map_err(|finding| finding.to_string())
}

#[test]
fn states_follow_from_the_dates() {
    let mut ring = ring();
    let rolled = START.after(Duration::from_secs(1_000));
    let signs_from = ring.roll(key("second"), rolled).expect("rolled");
    assert_eq!(signs_from, rolled.after(PUBLISHED));
    let before = signs_from.before(Duration::from_micros(1));
    for (at, first, second) in [
        (START, KeyState::Active, KeyState::PreActive),
        (rolled, KeyState::Active, KeyState::PreActive),
        (before, KeyState::Active, KeyState::PreActive),
        (signs_from, KeyState::Deactivated, KeyState::Active),
        (signs_from.after(LAST), KeyState::Deactivated, KeyState::Active),
    ] {
        assert_eq!((ring.state("first", at), ring.state("second", at)), (Some(first), Some(second)), "{at}");
        let signing = if at < signs_from { "first" } else { "second" };
        assert_eq!(ring.signing_key(at).expect("a key").key_id(), signing);
    }
    // An instance whose clock is behind that of the one that made the key.
    let behind = |seconds| START.before(Duration::from_secs(seconds));
    assert!(ring.signing_key(behind(10)).is_some() && ring.signing_key(behind(11)).is_none());
    assert_eq!((ring.deactivated_at("first"), ring.deactivated_at("second")), (Some(signs_from), None));
    assert_eq!(ring.key_set().keys().len(), 2, "a pre-active key checks too");
    assert_eq!(ring.state("third", START), None);
}

#[test]
fn unsafe_steps_are_refused_with_the_reason_and_the_date() {
    let mut ring = ring();
    ring.publish(key("second"), START).expect("published");
    let signs_from = START.after(PUBLISHED);
    let early = ring.activate("second", START, START).expect_err("too early");
    assert_eq!(
        early.to_string(),
        "key \"second\" cannot sign before 2023-11-14T22:18:30Z: until then, verifiers may go by a key set that does not \
         have it, and would refuse its tokens (it was published at 2023-11-14T22:13:20Z)"
    );
    assert!(ring.activate("second", signs_from.before(SECOND), START).is_err());
    assert_eq!(ring.destroy("first", START).expect_err("it signs"), StepError::NoSuccessor { kid: "first".to_owned() });
    ring.activate("second", signs_from, START).expect("planned for the earliest date");
    let gone = signs_from.after(LAST);
    let early = ring.destroy("first", gone.before(SECOND)).expect_err("too early");
    assert_eq!(
        early.to_string(),
        "key \"first\" cannot be destroyed before 2023-11-14T22:33:40Z: until then, there may be tokens that it has \
         signed and that have not expired (it signs or signed until 2023-11-14T22:18:30Z)"
    );
    assert_eq!(ring.earliest_destruction("first", START), Ok(Some(gone)));
    ring.destroy("first", gone).expect("nothing of it is left");
    assert_eq!(ring.state("first", gone), Some(KeyState::Destroyed));
    for (step, refused) in [
        ("publish an ID again", ring.publish(key("first"), gone).map(drop)),
        ("destroy twice", ring.destroy("first", gone)),
        ("compromise what is gone", ring.compromise("first", gone)),
        ("activate the active key", ring.activate("second", gone, gone)),
        ("an unknown key", ring.activate("third", gone, gone)),
        ("another family", ring.publish(SigningKey::generate(Algorithm::EdDsa).expect("a key"), gone).map(drop)),
    ] {
        assert!(refused.is_err(), "{step}");
    }
    assert_eq!(ring.keys().len(), 2, "a refused step changes nothing");
}

#[test]
fn a_compromised_key_is_refused_at_once_and_replaced_at_once() {
    let mut ring = ring();
    let token = issue(&ring, Lifetime::minutes(5), START).expect("a token");
    check(&ring.key_set(), &token, START).expect("accepted");
    ring.compromise("first", START).expect("compromised");
    let said = check(&ring.key_set(), &token, START).expect_err("refused");
    assert!(said.contains("unknown-key") && said.contains("kid \"first\", which is compromised"), "{said}");
    assert!(matches!(issue(&ring, Lifetime::minutes(5), START), Err(IssueError::NoActiveKey)));
    assert_eq!(ring.roll(key("second"), START), Ok(START), "nothing else signs, so there is nothing to wait for");
    let token = issue(&ring, Lifetime::minutes(5), START).expect("a token");
    check(&ring.key_set(), &token, START).expect("accepted");
    assert!(!ring.to_private_text().expect("a text").contains("\"kid\":\"first\",\"k\""));

    // A key that was to sign and is compromised before never does: the one before it goes on.
    let from = ring.roll(key("third"), START).expect("rolled");
    ring.compromise("third", START).expect("compromised");
    assert_eq!(ring.signing_key(from).expect("a key").key_id(), "second");
    // A key that had stopped signing does not begin again.
    let from = ring.roll(key("fourth"), START).expect("rolled");
    ring.compromise("fourth", from).expect("compromised");
    assert!(ring.signing_key(from).is_none());
    assert_eq!(ring.state("second", from), Some(KeyState::Deactivated));
}

#[test]
fn a_lifetime_the_keyring_does_not_reckon_with_is_refused() {
    let mut ring = ring();
    let error = issue(&ring, Lifetime::minutes(11), START).expect_err("too long");
    assert_eq!(
        error.to_string(),
        "expected a lifetime of at most 600 s, which the keyring allows for, but found 660 s"
    );
    ring.allow_lifetime(Lifetime::minutes(11));
    ring.allow_lifetime(Lifetime::minutes(1));
    issue(&ring, Lifetime::minutes(11), START).expect("a token");
}

#[test]
fn a_keyring_survives_its_text_and_bad_texts_say_why() {
    let mut ring = ring();
    ring.roll(key("second"), START).expect("rolled");
    ring.roll(key("third"), START.after(SECOND)).expect("rolled");
    ring.compromise("first", START.after(SECOND)).expect("compromised");
    let text = ring.to_private_text().expect("a text");
    let again = Keyring::from_private_text(&text).expect("what was written is read");
    assert_eq!(*again.to_private_text().expect("a text"), *text);
    for at in [START, START.after(PUBLISHED), START.after(PUBLISHED + SECOND)] {
        let ids = ["first", "second", "third"];
        assert_eq!(ids.map(|kid| again.state(kid, at)), ids.map(|kid| ring.state(kid, at)));
    }
    // Whoever reads the text as the JWK Set that it is finds the two good keys.
    assert_eq!(KeySet::read(&text).expect("a set").keys().len(), 2);
    for (from, to, expected) in [
        ("\"cache_time\":300", "\"cache_time\":-1", "expected a number of seconds in the member \"cache_time\""),
        ("\"longest_lifetime\":600,", "", "expected a number of seconds in the member \"longest_lifetime\""),
        ("\"longest_lifetime\":600", "\"longest_lifetime\":0", "expected from 1 second to 10 years"),
        ("\"keys\":", "\"keyz\":", "expected an array of JWKs in the member \"keys\""),
        ("\"published_at\":1700000001", "\"published_at\":\"x\"", "in the member \"published_at\" of key 2"),
        ("\"kid\":\"third\"", "\"kid\":\"second\"", "key 2 of the keyring does not go with the others"),
        ("\"kty\":\"oct\"", "\"kty\":\"oak\"", "key 1 of the keyring cannot be used"),
        ("]}", "]", "the keyring cannot be read"),
    ] {
        let bad = text.replace(from, to);
        assert_ne!(bad, *text, "{from}");
        let error = Keyring::from_private_text(&bad).expect_err("a bad text").to_string();
        assert!(error.contains(expected), "{error}");
    }
}

/// What may happen to an issuer's keys.
#[derive(Clone, Debug)]
enum Event {
    Roll,
    Destroy(usize),
    Compromise(usize),
    Activate(usize),
    Issue(u16),
    FetchKeys,
    Wait(u16),
}

fn event() -> impl Strategy<Value = Event> {
    prop_oneof![
        2 => Just(Event::Roll),
        3 => (0..6_usize).prop_map(Event::Destroy),
        1 => (0..6_usize).prop_map(Event::Compromise),
        2 => (0..6_usize).prop_map(Event::Activate),
        6 => (1..=600_u16).prop_map(Event::Issue),
        3 => Just(Event::FetchKeys),
        8 => (0..400_u16).prop_map(Event::Wait),
    ]
}

proptest! {
    /// Whatever steps the keyring allows, a verifier that fetches the key set once in a cache time accepts every token
    /// until it expires, unless its key is compromised; and states only ever go forward.
    #[test]
    fn no_step_that_is_taken_costs_a_token(events in proptest::collection::vec(event(), 1..60)) {
        let (mut ring, mut now) = (ring(), START);
        let (mut cached, mut fetched) = (ring.key_set(), now);
        // A verifier that has lost its keys to an emergency fetches them anew.
        let mut tokens: Vec<(String, String, Timestamp)> = Vec::new();
        let mut states: Vec<(String, KeyState)> = Vec::new();
        for event in events {
            let kid = |index: usize| ring.keys().get(index).map_or(String::new(), |key| key.key_id().to_owned());
            match event {
                Event::Roll => drop(ring.roll(key(&format!("k{}", ring.keys().len())), now)),
                Event::Destroy(index) => drop(ring.destroy(&kid(index), now)),
                Event::Compromise(index) => {
                    let kid = kid(index);
                    if ring.compromise(&kid, now).is_ok() {
                        tokens.retain(|(of, _, _)| *of != kid);
                        (cached, fetched) = (ring.key_set(), now);
                        if ring.signing_key(now).is_none() {
                            ring.roll(key(&format!("k{}", ring.keys().len())), now).expect("an emergency");
                            (cached, fetched) = (ring.key_set(), now);
                        }
                    }
                }
                Event::Activate(index) => drop(ring.activate(&kid(index), now, now)),
                Event::Issue(seconds) => {
                    let token = issue(&ring, Lifetime::seconds(seconds), now).expect("a key always signs");
                    let of = ring.signing_key(now).expect("a key").key_id().to_owned();
                    tokens.push((of, token, now.after(Duration::from_secs(seconds.into()))));
                }
                Event::FetchKeys => (cached, fetched) = (ring.key_set(), now),
                Event::Wait(seconds) => now = now.after(Duration::from_secs(seconds.into())),
            }
            if fetched.distance(now) >= times().cache_time {
                (cached, fetched) = (ring.key_set(), now);
            }
            tokens.retain(|(_, _, expires)| now < *expires);
            for (kid, token, _) in &tokens {
                prop_assert_eq!(check(&cached, token, now), Ok(()), "of {}", kid);
            }
            let active = ring.keys().iter().filter(|key| ring.state(key.key_id(), now) == Some(KeyState::Active));
            prop_assert!(active.count() <= 1 && ring.signing_key(now).is_some());
            let state = |kid: &str| ring.state(kid, now).expect("a state");
            let later: Vec<_> =
                ring.keys().iter().map(|key| (key.key_id().to_owned(), state(key.key_id()))).collect();
            prop_assert!(states.iter().zip(&later).all(|(before, after)| before.0 == after.0 && before.1 <= after.1));
            states = later;
        }
    }
}
