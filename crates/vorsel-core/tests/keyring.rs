//! Keyrings: which key is in which state when, which steps are refused, and that rolling never costs a token.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::{
    AccessDraft, Algorithm, Expectations, IssueError, Issuer, Kept, KeySet, KeyState, KeyTimes, Keyring, Lifetime,
    Secret, SigningKey, StepError, Timestamp, Verifier,
};

const ISSUER: &str = "https://id.skarnhill.test";
const AUDIENCE: &str = "https://api.skarnhill.test";
const START: Timestamp = Timestamp::from_secs(1_700_000_000);
/// Published until the new key signs: cache time and spread.
const PUBLISHED: Duration = Duration::from_secs(340);
/// Deactivated until all is expired: lifetime, the largest skew, and the spread.
const LAST: Duration = Duration::from_secs(600 + 300 + 40);
const SECOND: Duration = Duration::from_secs(1);

fn times() -> KeyTimes {
    KeyTimes { longest_lifetime: Lifetime::minutes(10), ..KeyTimes::default() }
}

/// A quick key, told apart by its ID.
fn key(kid: &str) -> SigningKey {
    let start = kid.bytes().fold(7_u8, |start, byte| start.wrapping_mul(31).wrapping_add(byte));
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
    // The largest skew: the clocks of issuers are ahead of ours here.
    let expectations = Expectations::access(ISSUER, AUDIENCE).skew(Expectations::LARGEST_SKEW).expect("a skew");
    let verifier = Verifier::new(keys.clone(), expectations);
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
    assert!(ring.signing_key(behind(40)).is_some() && ring.signing_key(behind(41)).is_none());
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
        "key \"second\" cannot sign before 2023-11-14T22:19:00Z: until then, verifiers may go by a key set that does not \
         have it, and would refuse its tokens (it was published at 2023-11-14T22:13:20Z)"
    );
    assert!(ring.activate("second", signs_from.before(SECOND), START).is_err());
    assert_eq!(ring.destroy("first", START).expect_err("it signs"), StepError::NoSuccessor { kid: "first".to_owned() });
    ring.activate("second", signs_from, START).expect("planned for the earliest date");
    let gone = signs_from.after(LAST);
    let early = ring.destroy("first", gone.before(SECOND)).expect_err("too early");
    assert_eq!(
        early.to_string(),
        "key \"first\" cannot be destroyed before 2023-11-14T22:34:40Z: until then, there may be tokens that it has \
         signed and that have not expired (it signs or signed until 2023-11-14T22:19:00Z)"
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
fn steps_that_would_be_undone_unseen_are_refused() {
    let mut ring = ring();
    let planned = ring.roll(key("second"), START).expect("rolled");
    // Forty seconds before its date another instance may take the key for active.
    let soon = planned.before(Duration::from_secs(40));
    let error = ring.activate("second", planned.after(SECOND), soon).expect_err("too late to move");
    assert_eq!(error, StepError::SignsSoon { kid: "second".to_owned(), planned });
    ring.activate("second", planned.after(SECOND), soon.before(SECOND)).expect("in time");
    ring.publish(key("third"), START).expect("published");
    ring.publish(key("fourth"), START).expect("published");
    ring.activate("fourth", planned.after(SECOND * 9), START).expect("planned");
    let error = ring.activate("third", planned.after(SECOND * 9), START).expect_err("the later one signs");
    assert!(error.to_string().starts_with("key \"third\" would never sign: \"fourth\" takes over at"), "{error}");
    // A date inside a second is rounded up, so that a safe date never comes early.
    let inside = START.after(Duration::from_millis(300));
    assert_eq!(ring.publish(key("fifth"), inside), Ok(START.after(SECOND).after(PUBLISHED)));
    ring.compromise("second", START).expect("compromised");
    let text = ring.to_private_text().expect("a text");
    let mut read = Keyring::from_private_text(&text).expect("the same keyring");
    for ring in [&mut ring, &mut read] {
        let error = ring.publish(key("second").named("harmless"), START).expect_err("the same key");
        assert_eq!(error, StepError::Compromised { kid: "harmless".to_owned(), known: "second".to_owned() });
    }
}

#[test]
fn a_keyring_that_is_replaced_makes_nobody_forget() {
    let mut known = ring();
    let old = known.clone();
    let planned = known.roll(key("second"), START).expect("rolled");
    let after_roll = known.clone();
    known.publish(key("third"), START).expect("published");
    known.compromise("third", START).expect("compromised");
    let kept = |read: &Keyring| {
        let taken = known.taking_up(read.clone(), START);
        assert_eq!(taken.ring.taking_up(taken.ring.clone(), START).kept, [], "what was mended is taken up as it is");
        (taken.kept.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "), taken.ring)
    };
    let states = |ring: &Keyring| {
        let state = |key: &vorsel_core::KeyRecord| {
            format!("{} {}", key.key_id(), ring.state(key.key_id(), START).expect("there"))
        };
        ring.keys().iter().map(state).collect::<Vec<_>>().join(", ")
    };
    let all = "first active, second pre-active, third compromised";
    let mut later = known.clone();
    later.publish(key("fourth"), START).expect("published");
    let mut moved = known.clone();
    moved.activate("second", planned.after(SECOND), START).expect("moved");
    let new = Keyring::new(key("fourth"), times(), START);
    let mut leaked = Keyring::new(key("third").named("fifth"), times(), START);
    leaked.publish(key("second-of-them").named("second"), START).expect("published");
    let public = Keyring::new(SigningKey::generate(Algorithm::EdDsa).expect("a key"), times(), START);
    for (read, said, left) in [
        (&known, "", all.to_owned()),
        (&later, "", format!("{all}, fourth pre-active")),
        (&moved, "", all.to_owned()),
        (&after_roll, "key \"third\" is not there any more", all.to_owned()),
        (&old, "key \"second\" is not there any more; key \"third\" is not there any more", all.to_owned()),
        (
            &new,
            "key \"first\" is not there any more; key \"second\" is not there any more; key \"third\" is not there any more",
            format!("{all}, fourth pre-active"),
        ),
        (
            &leaked,
            "key \"first\" is not there any more; another key is called \"second\" there; key \"third\" is not there any \
             more; key \"fifth\" is there again, though it was withdrawn",
            format!("{all}, fifth compromised"),
        ),
        (&public, "keys of another family, or none, are there", all.to_owned()),
    ] {
        let (told, ring) = kept(read);
        assert_eq!((told.as_str(), states(&ring)), (said, left));
        assert_eq!(ring.signing_key(START).expect("a key").key_id(), "first", "{said}");
    }
    assert_eq!(kept(&moved).1.keys()[1].active_from(), Some(planned.after(SECOND)));
    // Of two copies that differ in a date, the one with fewer steps is the older one.
    let (told, ring) = {
        let taken = moved.taking_up(known.clone(), START);
        (taken.kept, taken.ring)
    };
    assert_eq!(told, [Kept::Date { kid: "second".to_owned(), from: planned.after(SECOND) }]);
    assert_eq!(ring.keys()[1].active_from(), Some(planned.after(SECOND)));
    // Read from before steps were counted, it is older than anything.
    let text = old.to_private_text().expect("a text").replace(",\"step\":0", "");
    assert!(
        !Keyring::from_private_text(&text).expect("a keyring").taking_up(known.clone(), START).ring.keys().is_empty()
    );
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
    /// From so many seconds on.
    Activate(usize, u16),
    /// By an instance whose clock is so many milliseconds ahead, or that has not heard of the last step yet.
    Issue(u16, u16, bool),
    FetchKeys,
    /// A copy is made of the file.
    Copy,
    /// The copy takes the place of the file.
    Restore,
    /// The file is lost, and an instance that starts makes new keys.
    Lose,
    /// Milliseconds.
    Wait(u32),
}

fn event() -> impl Strategy<Value = Event> {
    prop_oneof![
        2 => Just(Event::Roll),
        3 => (0..6_usize).prop_map(Event::Destroy),
        1 => (0..6_usize).prop_map(Event::Compromise),
        2 => (0..6_usize, 0..400_u16).prop_map(|(index, seconds)| Event::Activate(index, seconds)),
        6 => (1..=600_u16, 0..10_000_u16, any::<bool>()).prop_map(|(for_, ahead, late)| Event::Issue(for_, ahead, late)),
        3 => Just(Event::FetchKeys),
        1 => Just(Event::Copy),
        1 => Just(Event::Restore),
        1 => Just(Event::Lose),
        8 => prop_oneof![0..400_000_u32, 0..12_000_u32].prop_map(Event::Wait),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever steps the keyring allows, a verifier that fetches the key set once in a cache time accepts every token
    /// until it expires, unless its key is compromised; and states only ever go forward. What an instance does that starts with
    /// a file that was replaced, before a running one has mended it, is left out.
    #[test]
    fn no_step_that_is_taken_costs_a_token(events in proptest::collection::vec(event(), 1..60)) {
        let (mut ring, mut now) = (ring(), START);
        // What an instance goes by that has not heard of the last step, and since when there is another.
        let (mut stale, mut stepped_at) = (ring.clone(), START);
        let (mut cached, mut fetched) = (ring.key_set(), now);
        // A verifier that has lost its keys to an emergency fetches them anew.
        let mut tokens: Vec<(String, String, Timestamp)> = Vec::new();
        let mut states: Vec<(String, KeyState)> = Vec::new();
        let mut copy = ring.clone();
        for event in events {
            let kid = |index: usize| ring.keys().get(index).map_or(String::new(), |key| key.key_id().to_owned());
            if !matches!(event, Event::Issue(..) | Event::FetchKeys | Event::Copy | Event::Wait(_)) {
                (stale, stepped_at) = (ring.clone(), now);
            }
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
                Event::Activate(index, seconds) => {
                    drop(ring.activate(&kid(index), now.after(Duration::from_secs(seconds.into())), now));
                }
                Event::Issue(seconds, ahead, is_late) => {
                    let ahead = Duration::from_millis(ahead.into());
                    // Learning of a step and the difference of clocks take no more than the spread together.
                    let has_heard = !is_late || now.distance(stepped_at) + ahead >= times().spread;
                    let (by, at) = (if has_heard { &ring } else { &stale }, now.after(ahead));
                    let Ok(token) = issue(by, Lifetime::seconds(seconds), at) else { continue };
                    let of = by.signing_key(at).expect("a key").key_id().to_owned();
                    if ring.state(&of, now) == Some(KeyState::Compromised) {
                        continue;
                    }
                    tokens.push((of, token, now.after(Duration::from_secs(seconds.into()))));
                }
                Event::Copy => copy = ring.clone(),
                Event::Restore => {
                    let taken = ring.taking_up(copy.clone(), now);
                    prop_assert!(taken.ring.taking_up(taken.ring.clone(), now).kept.is_empty());
                    ring = taken.ring;
                }
                Event::Lose => {
                    let new = Keyring::new(key(&format!("k{}", ring.keys().len())), times(), now);
                    let taken = ring.taking_up(new, now);
                    prop_assert!(!taken.kept.is_empty());
                    ring = taken.ring;
                }
                Event::FetchKeys => (cached, fetched) = (ring.key_set(), now),
                Event::Wait(millis) => now = now.after(Duration::from_millis(millis.into())),
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
