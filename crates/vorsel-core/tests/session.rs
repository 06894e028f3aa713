//! The session state machine, step by step.

use std::time::Duration;

use vorsel_core::{
    Algorithm, Check, CurrentToken, EndReason, Ended, Issuer, Lifetime, Presented, RefreshTokens, Renewal,
    RenewalRefusal, RenewalStep, Secret, Session, SessionLimits, SessionSeed, SignIn, SigningKey, Silences, Step,
    Timestamp,
};

const NOW: Timestamp = Timestamp::from_micros(1_700_000_000_654_321);
const WINDOW: Duration = Duration::from_secs(10);
const LIMITS: SessionLimits =
    SessionLimits { idle: Lifetime::days(14), absolute: Lifetime::days(30), retry_window: WINDOW, per_subject: None };
const MICRO: Duration = Duration::from_micros(1);

fn tokens() -> RefreshTokens {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    RefreshTokens::new("https://id.skarnhill.test", key).expect("refresh tokens")
}

fn session() -> Session {
    let seed = SessionSeed::new("s1", [7; 32]);
    Session::begin(seed, SignIn::new("obs-0017", "desk"), &LIMITS, NOW)
}

/// The refresh token of the session as it is, as its holder would present it.
fn presented(session: &Session) -> Presented {
    let tokens = tokens();
    tokens
        .check(&tokens.token(session, session.current).expect("a token"), session.current.began_at)
        .expect("an accepted token")
}

fn advanced(session: &Session, token: &Presented, now: Timestamp) -> Session {
    match session.present(token, &LIMITS, now) {
        Step::Advance => session.renewed(&LIMITS, now),
        other => panic!("expected to advance, but found {other:?}"),
    }
}

#[test]
fn a_current_token_advances_the_session_by_one_generation() {
    let first = session();
    let later = NOW.after(Duration::from_secs(3_600));
    let second = advanced(&first, &presented(&first), later);
    assert_eq!((second.current.number, second.current.began_at), (1, later));
    assert_eq!(&second.facts, &first.facts);
    assert_eq!(second.current.idle_until, later.after(LIMITS.idle.as_duration()));
    let third = advanced(&second, &presented(&second), later);
    assert_eq!(third.current.number, 2);
}

#[test]
fn a_spent_token_repeats_inside_the_window_and_is_a_replay_from_its_end_on() {
    let first = session();
    let spent = presented(&first);
    let second = advanced(&first, &spent, NOW);
    for (after, step) in [
        (Duration::ZERO, Step::Repeat(second.current)),
        (WINDOW - MICRO, Step::Repeat(second.current)),
        (WINDOW, Step::Replay),
        (WINDOW * 1_000, Step::Replay),
    ] {
        assert_eq!(second.present(&spent, &LIMITS, NOW.after(after)), step, "{after:?}");
    }
    let behind = NOW.before(Duration::from_secs(3));
    assert_eq!(
        second.present(&spent, &LIMITS, behind),
        Step::Repeat(second.current),
        "another instance's clock is behind"
    );
    let strict = SessionLimits { retry_window: Duration::ZERO, ..LIMITS };
    assert_eq!(second.present(&spent, &strict, NOW), Step::Replay);
}

/// Each token has a window of its own, however many renewals came after: its holder is honest until it is over.
#[test]
fn a_token_spent_generations_ago_gets_its_own_successor_inside_its_own_window() {
    let tokens = tokens();
    let pause = Duration::from_secs(3);
    let mut line = vec![session()];
    for step in 1..=6_u32 {
        let last = line.last().expect("a session");
        line.push(advanced(last, &presented(last), NOW.after(pause * step)));
    }
    let newest = &line[6];
    for (generation, earlier) in line[..6].iter().enumerate() {
        let successor = line[generation + 1].current;
        for after in [Duration::ZERO, WINDOW - MICRO, WINDOW] {
            let now = successor.began_at.after(after).max(newest.current.began_at);
            let step = newest.present(&presented(earlier), &LIMITS, now);
            if now < successor.began_at.after(WINDOW) {
                assert_eq!(step, Step::Repeat(successor), "{generation} {after:?}");
                let (then, later) = (tokens.token(&line[generation + 1], successor), tokens.token(newest, successor));
                assert_eq!(then.expect("a token"), later.expect("a token"), "the identical successor");
            } else {
                assert_eq!(step, Step::Replay, "{generation} {after:?}");
            }
        }
    }
}

#[test]
fn a_token_that_was_outrun_is_refused_first_and_a_replay_after_the_window() {
    let first = session();
    let old = presented(&first);
    let mut newest = first;
    for _ in 0..=Session::MOST_SPENT {
        newest = advanced(&newest, &presented(&newest), NOW);
    }
    assert_eq!(newest.spent.len(), Session::MOST_SPENT);
    assert!(matches!(newest.present(&old, &LIMITS, NOW), Step::Repeat(successor) if successor.number == 1));
    newest = advanced(&newest, &presented(&newest), NOW);
    assert_eq!(newest.present(&old, &LIMITS, NOW), Step::Outrun);
    assert_eq!(newest.present(&old, &LIMITS, NOW.after(WINDOW - MICRO)), Step::Outrun);
    assert_eq!(newest.present(&old, &LIMITS, NOW.after(WINDOW)), Step::Replay);
}

#[test]
fn a_clock_that_is_behind_does_not_turn_a_session_back() {
    let first = session();
    let second = advanced(&first, &presented(&first), NOW.before(Duration::from_secs(5)));
    assert_eq!((second.current.began_at, second.current.idle_until), (NOW, NOW.after(LIMITS.idle.as_duration())));
}

#[test]
fn sessions_expire_by_idleness_and_in_the_end() {
    let first = session();
    let token = presented(&first);
    let idle_end = NOW.after(LIMITS.idle.as_duration());
    assert!(matches!(first.present(&token, &LIMITS, idle_end.before(MICRO)), Step::Advance));
    assert_eq!(first.present(&token, &LIMITS, idle_end), Step::Expired);

    let mut session = first;
    let mut now = NOW;
    while session.current.idle_until < session.facts.ends_at {
        now = now.after(Duration::from_secs(10 * 86_400));
        session = advanced(&session, &presented(&session), now);
    }
    assert_eq!(session.current.idle_until, NOW.after(LIMITS.absolute.as_duration()), "renewing does not move the end");
    assert_eq!(session.present(&presented(&session), &LIMITS, session.facts.ends_at), Step::Expired);
    assert!(session.is_live(session.facts.ends_at.before(MICRO)) && !session.is_live(session.facts.ends_at));
}

#[test]
fn an_ended_session_answers_with_its_reason_whatever_is_presented() {
    for why in EndReason::ALL {
        let first = session();
        let (spent, second) = (presented(&first), advanced(&first, &presented(&first), NOW));
        let current = presented(&second);
        let ended = Session { ended: Some(Ended { at: NOW, why }), ..second };
        for token in [spent, current] {
            assert_eq!(ended.present(&token, &LIMITS, NOW), Step::Ended(why));
        }
        assert_eq!(EndReason::from_code(why.code()), Some(why));
    }
}

/// What somebody with the signing key but without the record can make: the right claims but for the `jti`.
#[test]
fn a_token_with_the_right_signature_but_another_secret_is_foreign() {
    let honest = session();
    let with = |change: fn(&mut vorsel_core::Facts)| {
        let mut forged = honest.clone();
        change(std::sync::Arc::make_mut(&mut forged.facts));
        forged
    };
    for forged in [
        with(|facts| facts.secret = Secret::new(vec![8; 32])),
        with(|facts| facts.subject = "dir-0001".to_owned()),
        Session { id: "s2".to_owned(), ..honest.clone() },
    ] {
        assert_eq!(honest.present(&presented(&forged), &LIMITS, NOW), Step::Foreign);
        assert!(!honest.made(&presented(&forged)));
    }
}

/// A fail-over has lost the renewals after the first: the session goes on from the token that tells of the last one, and what was
/// spent before is spent.
#[test]
fn a_token_of_a_lost_generation_moves_the_session_on() {
    let kept = advanced(&session(), &presented(&session()), NOW);
    let mut lost = vec![kept.clone()];
    for number in 2..=6 {
        let last = lost.last().expect("one");
        lost.push(advanced(last, &presented(last), NOW.after(Duration::from_secs(number))));
    }
    let (fourth, last) = (presented(&lost[3]), presented(&lost[5]));
    let moved = kept.clone().moved_on(&last);
    assert_eq!((moved.current.number, moved.current.began_at), (6, lost[5].current.began_at.whole_secs()));
    assert_eq!(moved.present(&last, &LIMITS, NOW), Step::Advance);
    let window = LIMITS.retry_window;
    assert_eq!(moved.present(&fourth, &LIMITS, moved.current.began_at.after(window)), Step::Replay);
    assert_eq!(moved.present(&fourth, &LIMITS, moved.current.began_at), Step::Outrun);
    // Neither an earlier token nor one that the session did not make leads anywhere.
    assert_eq!(moved.clone().moved_on(&fourth), moved);
    let mut forged = lost[5].clone();
    std::sync::Arc::make_mut(&mut forged.facts).secret = Secret::new(vec![8; 32]);
    assert_eq!(kept.clone().moved_on(&presented(&forged)), kept);
    assert!(kept.made(&last), "a sign-out with it ends the session");
}

/// What the machine asks for, in a word.
fn asked(step: &RenewalStep) -> String {
    match step {
        RenewalStep::Load(load) => format!("load {}", load.session_id()),
        RenewalStep::Swap(swap) => format!("swap for {}", swap.next(NOW).current.number),
        RenewalStep::Repeat(_, successor) => format!("repeat {}", successor.number),
        RenewalStep::End(session, why) => format!("end {} for {why}", session.id),
        RenewalStep::Refuse(refusal) => format!("refuse: {refusal:?}"),
    }
}

#[test]
fn a_renewal_says_what_to_do_next_and_is_told_what_came_of_it() {
    let first = session();
    let token = presented(&first);
    let second = advanced(&first, &token, NOW);
    let ended = Session { ended: Some(Ended { at: NOW, why: EndReason::SignedOut }), ..second.clone() };
    let begin = |remembered: Option<Session>, now| {
        Renewal::new(token.clone(), LIMITS, now).begin(remembered.map(CurrentToken::of))
    };
    for (remembered, now, step) in [
        (None, NOW, "load s1"),
        (Some(&first), NOW, "swap for 1"),
        (Some(&second), NOW, "load s1"),
        (Some(&ended), NOW, "load s1"),
        (Some(&first), first.facts.ends_at, "load s1"),
    ] {
        assert_eq!(asked(&begin(remembered.cloned(), now)), step, "what is remembered leads to a swap or to nothing");
    }
    for (found, now, step) in [
        (None, NOW, "refuse: Unknown"),
        (Some(&first), NOW, "swap for 1"),
        (Some(&second), NOW, "repeat 1"),
        (Some(&second), NOW.after(WINDOW), "end s1 for replay"),
        (Some(&ended), NOW, "refuse: Ended(SignedOut)"),
        (Some(&first), first.facts.ends_at, "refuse: Expired"),
    ] {
        let RenewalStep::Load(load) = begin(None, now) else { panic!("nothing is remembered") };
        assert_eq!(asked(&load.found(found.cloned(), now, &Silences::default())), step);
    }
    let RenewalStep::Swap(swap) = begin(Some(first.clone()), NOW) else { panic!("it is current") };
    assert_eq!(swap.next(NOW), second);
    // A store that refuses every swap and shows no change does not hold anybody up for ever.
    let (mut step, mut races) = (swap.lost(), 0);
    while let RenewalStep::Load(load) = step {
        let RenewalStep::Swap(swap) = load.found(Some(first.clone()), NOW, &Silences::default()) else {
            panic!("it is still current")
        };
        races += 1;
        step = swap.lost();
    }
    assert_eq!((races, step), (8, RenewalStep::Refuse(RenewalRefusal::StoreBroken)));
}

#[test]
fn the_same_record_gives_the_same_token_and_each_generation_another() {
    let (tokens, first) = (tokens(), session());
    let second = advanced(&first, &presented(&first), NOW);
    assert_eq!(
        tokens.token(&first, first.current).expect("a token"),
        tokens.token(&first.clone(), first.current).expect("a token")
    );
    assert_ne!(
        tokens.token(&first, first.current).expect("a token"),
        tokens.token(&second, second.current).expect("a token")
    );
}

#[test]
fn refresh_tokens_are_checked_like_any_token() {
    let (tokens, session) = (tokens(), session());
    let token = tokens.token(&session, session.current).expect("a token");
    let after_skew = session.current.idle_until.after(Duration::from_secs(6));
    assert_eq!(tokens.check(&token, after_skew).expect_err("expired").check, Check::Expiration);
    assert_eq!(tokens.check(&token[1..], NOW).expect_err("broken").check, Check::TokenForm);
    let other = SigningKey::hmac(Algorithm::Hs256, Secret::new((1..33).collect())).expect("a secret");
    let others = RefreshTokens::new("https://id.skarnhill.test", other).expect("refresh tokens");
    assert_eq!(others.check(&token, NOW).expect_err("another key").check, Check::Key);
}

#[test]
fn only_a_shared_secret_signs_refresh_tokens() {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let error = RefreshTokens::new("https://id.skarnhill.test", key).expect_err("another kind of key");
    assert_eq!(error.to_string(), "expected a key for HS256 to sign refresh tokens with, but found EdDSA");
}

#[test]
fn debug_shows_no_secret() {
    let key = SigningKey::hmac(Algorithm::Hs256, Secret::new((0..32).collect())).expect("a secret");
    let shown = format!("{:?} {:?} {:?}", session(), tokens(), Issuer::new("issuer", key));
    assert!(!shown.contains("7, 7") && !shown.contains("0, 1, 2") && !shown.contains("AAECAw"), "{shown}");
}

/// What another instance would find in a token, the one that made it knows: whoever the session is of, in every generation.
#[test]
fn a_current_token_is_known_as_a_check_finds_it() {
    let tokens = tokens();
    let long = "dome ".repeat(200);
    for (subject, client) in [("obs-0017", "desk"), ("\"\\\u{1}é", "\u{2028}"), (&*long, "a"), ("a", &*long)] {
        let mut session = Session::begin(SessionSeed::new("s1", [7; 32]), SignIn::new(subject, client), &LIMITS, NOW);
        for number in 0..40 {
            let current = CurrentToken::of(session.clone());
            let token = tokens.prepare_current(&current).expect("a token").sign().expect("a signature");
            assert_eq!(token, tokens.token(&session, session.current).expect("a token"));
            let now = session.current.began_at;
            assert_eq!(**current.presented(), tokens.check(&token, now).expect("accepted"), "{subject} {number}");
            assert!(session.made(current.presented()) && *current.session() == session);
            session = session.renewed(&LIMITS, now.after(Duration::from_millis(333)));
        }
    }
}

#[test]
fn what_is_remembered_of_another_token_or_another_session_leads_to_nothing() {
    let (first, token) = (session(), presented(&session()));
    let other_secret = Session::begin(SessionSeed::new("s1", [8; 32]), SignIn::new("obs-0017", "desk"), &LIMITS, NOW);
    let other_id = Session { id: "s2".to_owned(), ..first.clone() };
    for other in [other_secret, other_id, first.renewed(&LIMITS, NOW)] {
        let step = Renewal::new(token.clone(), LIMITS, NOW).begin(Some(CurrentToken::of(other)));
        assert_eq!(asked(&step), "load s1");
    }
}
