//! What is revoked, and what is not: each kind on both sides of its boundary.

use std::time::Duration;

use proptest::prelude::*;
use vorsel_core::{
    AccessDraft, Algorithm, Check, Checked, Expectations, Issuer, KeySet, Lifetime, NoOwn, Revocation, Revocations,
    Revoked, SigningKey, Timestamp, Verifier,
};

const NOW: Timestamp = Timestamp::from_secs(1_700_000_000);
const UNTIL: Timestamp = Timestamp::from_secs(1_700_000_600);
const AUDIENCE: &str = "https://api.skarnhill.test";
const MICRO: Duration = Duration::from_micros(1);

/// A token of the session `s1` of obs-0017, who signed in a minute ago, with the ID `t1`, signed with the key `k1`.
fn checked(with_session: bool) -> Checked<NoOwn> {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key").named("k1");
    let keys = KeySet::new([key.verifying_key()]);
    let mut draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5));
    if with_session {
        draft = draft.session("s1", NOW.before(Duration::from_secs(60)));
    }
    let token = Issuer::new("https://id.skarnhill.test", key).access(&draft, "t1", NOW).expect("a token");
    let verifier = Verifier::new(keys, Expectations::access("https://id.skarnhill.test", AUDIENCE));
    verifier.check(&token, NOW).expect("an accepted token")
}

fn known(what: Revoked) -> Revocations {
    let known = Revocations::new();
    assert!(known.is_empty());
    known.add(&Revocation { what, until: UNTIL });
    assert!(!known.is_empty());
    known
}

fn to(subject: &str, up_to: Timestamp) -> Revoked {
    Revoked::IssuedTo { subject: subject.to_owned(), up_to }
}

fn in_session(session: &str, up_to: Timestamp) -> Revoked {
    Revoked::IssuedInSession { session: session.to_owned(), up_to }
}

#[test]
fn a_token_is_revoked_by_whatever_it_stands_on_and_by_nothing_else() {
    let token = checked(true);
    let signed_in = NOW.before(Duration::from_secs(60));
    let [before_sign_in, before_issue] = [signed_in, NOW].map(|moment| moment.before(MICRO));
    let same_second = NOW.after(Duration::from_millis(999));
    for (what, found) in [
        (Revoked::Token("t1".to_owned()), Some("its jti \"t1\" revoked")),
        (Revoked::Token("s1".to_owned()), None),
        (Revoked::Session("s1".to_owned()), Some("its session \"s1\" ended")),
        (Revoked::Session("S1".to_owned()), None),
        (Revoked::Key("k1".to_owned()), Some("its key \"k1\" revoked")),
        (Revoked::Key("k2".to_owned()), None),
        (to("obs-0017", NOW), Some("the tokens of \"obs-0017\" issued up to 2023-11-14T22:13:20Z revoked")),
        (to("obs-0017", same_second), Some("the tokens of \"obs-0017\" issued up to 2023-11-14T22:13:20.999Z revoked")),
        (to("obs-0017", before_issue), None),
        (to("obs-0018", NOW), None),
        (in_session("s1", NOW), Some("the tokens of session \"s1\" issued up to 2023-11-14T22:13:20Z revoked")),
        (in_session("s1", before_issue), None),
        (in_session("obs-0017", NOW), None),
        (Revoked::Issued { up_to: NOW }, Some("all tokens issued up to 2023-11-14T22:13:20Z revoked")),
        (Revoked::Issued { up_to: before_issue }, None),
        (Revoked::SignIns { up_to: signed_in }, Some("all sessions of sign-ins up to 2023-11-14T22:12:20Z ended")),
        (Revoked::SignIns { up_to: before_sign_in }, None),
    ] {
        let known = known(what.clone());
        match (known.check(&token, NOW), found) {
            (Ok(()), None) => {}
            (Err(finding), Some(found)) => {
                assert_eq!((finding.check, finding.check.code()), (Check::Revocation, "revoked"));
                assert_eq!(finding.found, found);
            }
            (result, _) => panic!("{what:?}: {result:?}"),
        }
        assert!(known.check(&token, UNTIL).is_ok(), "{what:?}: not remembered beyond its time");
        assert_eq!(known.check(&token, UNTIL.before(MICRO)).is_err(), found.is_some(), "{what:?}");
    }
}

#[test]
fn what_ends_sessions_leaves_a_token_without_one_alone() {
    let token = checked(false);
    for what in [Revoked::SignIns { up_to: NOW }, Revoked::Session("s1".to_owned()), in_session("s1", NOW)] {
        assert!(known(what).check(&token, NOW).is_ok());
    }
    assert!(known(Revoked::Issued { up_to: NOW }).check(&token, NOW).is_err());
}

/// A session that began long after its caller had authenticated goes by its own beginning.
#[test]
fn what_ends_all_of_a_time_goes_by_when_the_session_began() {
    let key = SigningKey::generate(Algorithm::EdDsa).expect("a key");
    let verifier =
        Verifier::new(KeySet::new([key.verifying_key()]), Expectations::access("https://id.skarnhill.test", AUDIENCE));
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5));
    let (began_at, hour) = (NOW.before(Duration::from_secs(10)), Duration::from_secs(3_600));
    let draft = draft.session("s1", NOW.before(hour)).session_at(began_at);
    let token = Issuer::new("https://id.skarnhill.test", key).access(&draft, "t1", NOW).expect("a token");
    let checked: Checked = verifier.check(&token, NOW).expect("an accepted token");
    assert_eq!(checked.claims().session_at(), Some(began_at));
    assert!(checked.claims().own("session_at").is_none(), "it is none of the app's own");
    for (up_to, stands) in [(began_at.before(Duration::from_secs(1)), true), (began_at, false), (NOW, false)] {
        assert_eq!(known(Revoked::SignIns { up_to }).check(&checked, NOW).is_ok(), stands, "{up_to}");
    }
}

/// What is lacking is told, and with it nothing is lacking any more.
#[test]
fn what_another_view_lacks_is_told_as_far_as_it_must_be_remembered() {
    let kinds = || {
        let named = [Revoked::Token("a".to_owned()), Revoked::Session("a".to_owned()), Revoked::Key("a".to_owned())];
        let all = [Revoked::Issued { up_to: NOW }, Revoked::SignIns { up_to: NOW }];
        named.into_iter().chain(all).chain([in_session("a", NOW), to("a", NOW)])
    };
    let (here, there) = (Revocations::new(), Revocations::new());
    for what in kinds() {
        let one = known(what.clone());
        let lacking = one.lacking_in(&there, NOW);
        let longer = Revocation { what: what.clone(), until: UNTIL.after(MICRO) };
        assert!(one.has(&lacking[0]) && !one.has(&longer) && !there.has(&lacking[0]), "{what:?}");
        assert_eq!(lacking, [Revocation { what: what.clone(), until: UNTIL }]);
        assert_eq!(one.lacking_in(&one, NOW), []);
        assert_eq!(one.lacking_in(&there, UNTIL), [], "it need not be remembered any more");
        // The same for less long is not enough.
        let shorter = Revocations::new();
        shorter.add(&Revocation { what: what.clone(), until: UNTIL.before(MICRO) });
        assert_eq!(one.lacking_in(&shorter, NOW), lacking);
        assert_eq!(shorter.lacking_in(&one, NOW), []);
        here.add(&lacking[0]);
    }
    let earlier = |up_to| [Revoked::Issued { up_to }, to("a", up_to)];
    earlier(NOW.before(MICRO)).into_iter().for_each(|what| there.add(&Revocation { what, until: UNTIL }));
    let lacking = here.lacking_in(&there, NOW);
    assert_eq!(lacking.len(), kinds().count());
    lacking.iter().for_each(|entry| there.add(entry));
    assert_eq!(here.lacking_in(&there, NOW), []);
}

/// Of what happens within one second nobody can tell the order, so tokens are issued in the next one, and what is revoked again
/// reaches as far.
#[test]
fn what_is_issued_after_a_moment_stands_and_what_is_revoked_again_does_not() {
    let draft = AccessDraft::of("obs-0017").audience(AUDIENCE).client("desk").lasting(Lifetime::minutes(5));
    let draft = draft.session("s1", NOW);
    let at = |millis: u64| NOW.after(Duration::from_millis(millis));
    let long_ago = NOW.before(Duration::from_secs(60));
    let all = |up_to| Revoked::Issued { up_to };
    for (what, again, from, up_to) in [
        (to("obs-0017", at(100)), to("obs-0017", at(700)), at(1_000), at(1_000)),
        (in_session("s1", at(100)), in_session("s1", at(700)), at(1_000), at(1_000)),
        (all(at(100)), all(at(700)), at(1_000), at(1_000)),
        // What is about other tokens as well, and may have had those issued later.
        (to("obs-0017", at(100)), in_session("s1", at(700)), at(1_000), at(1_000)),
        (in_session("s1", at(100)), to("obs-0017", at(700)), at(1_000), at(1_000)),
        (all(at(100)), to("obs-0017", at(700)), at(1_000), at(1_000)),
        (in_session("s1", at(100)), all(at(700)), at(1_000), at(1_000)),
        // A clock that is ahead of this one.
        (to("obs-0017", at(3_200)), to("obs-0017", at(700)), at(4_000), at(4_000)),
        // Others, and what is long ago.
        (to("obs-0018", at(100)), to("obs-0017", at(700)), at(700), at(700)),
        (in_session("s2", at(100)), in_session("s1", at(700)), at(700), at(700)),
        (to("obs-0017", long_ago), to("obs-0017", at(700)), at(700), at(700)),
        (Revoked::Session("s1".to_owned()), to("obs-0017", at(700)), at(700), at(700)),
    ] {
        let known = known(what.clone());
        assert_eq!(known.issued_from(&draft, at(700)), from, "{what:?}");
        assert_eq!(known.issued_up_to(&again, at(700)), up_to, "{what:?}, {again:?}");
        assert_eq!(known.issued_from(&draft, UNTIL), UNTIL, "not beyond its time: {what:?}");
        assert_eq!((known.sign_in_from(at(700)), known.ended_with_others(NOW, at(700))), (at(700), false));
    }
    let known = known(Revoked::SignIns { up_to: at(3_200) });
    assert_eq!((known.sign_in_from(at(700)), known.issued_from(&draft, at(700))), (at(4_000), at(700)));
    assert!(known.ended_with_others(at(3_900), NOW) && !known.ended_with_others(at(4_000), NOW));
}

#[test]
fn an_entry_that_comes_again_only_ever_grows() {
    let (token, later) = (checked(true), UNTIL.after(Duration::from_secs(60)));
    for (first, second) in [
        (Revoked::Session("s1".to_owned()), Revoked::Session("s1".to_owned())),
        (to("obs-0017", NOW), to("obs-0017", Timestamp::MIN)),
        (in_session("s1", NOW), in_session("s1", Timestamp::MIN)),
        (Revoked::Issued { up_to: NOW }, Revoked::Issued { up_to: Timestamp::MIN }),
        (Revoked::SignIns { up_to: NOW }, Revoked::SignIns { up_to: Timestamp::MIN }),
    ] {
        let known = known(first);
        known.add(&Revocation { what: second.clone(), until: later });
        known.add(&Revocation { what: second.clone(), until: NOW });
        assert!(known.check(&token, later.before(MICRO)).is_err(), "{second:?}");
        assert!(known.check(&token, later).is_ok());
    }
}

#[test]
fn what_need_not_be_remembered_is_forgotten() {
    let known = Revocations::new();
    let kinds: [fn(String) -> Revoked; 5] =
        [Revoked::Session, Revoked::Token, Revoked::Key, |name| to(&name, NOW), |name| in_session(&name, NOW)];
    for number in 0..1_000_u64 {
        let what = kinds[number as usize % kinds.len()](number.to_string());
        known.add(&Revocation { what, until: NOW.after(Duration::from_secs(number)) });
    }
    assert_eq!(known.len(), 1_000);
    assert_eq!(known.forget(NOW.after(Duration::from_secs(899))), 900);
    assert_eq!((known.len(), known.forget(NOW)), (100, 0));
}

#[test]
fn readers_see_an_entry_as_soon_as_it_was_added_whatever_others_write() {
    let (token, known) = (checked(true), Revocations::new());
    std::thread::scope(|scope| {
        for writer in 0..3 {
            let known = &known;
            scope.spawn(move || {
                for number in 0..5_000 {
                    known.add(&Revocation { what: Revoked::Session(format!("{writer} {number}")), until: UNTIL });
                }
            });
        }
        assert!((0..1_000).all(|_| known.check(&token, NOW).is_ok()));
        known.add(&Revocation { what: Revoked::Session("s1".to_owned()), until: UNTIL });
        assert!((0..1_000).all(|_| known.check(&token, NOW).is_err()));
    });
    assert_eq!(known.len(), 15_001);
}

/// The names that the token of [`checked`] can be revoked by.
fn by_name(kind: usize) -> Revoked {
    match kind {
        0 => Revoked::Token("t1".to_owned()),
        1 => Revoked::Session("s1".to_owned()),
        2 => Revoked::Key("k1".to_owned()),
        3 => to("obs-0017", NOW),
        _ => in_session("s1", NOW),
    }
}

/// The n-th of many others, of any kind.
fn other(kind: usize, number: usize) -> Revoked {
    let name = format!("other {number}");
    match kind {
        0 => Revoked::Token(name),
        1 => Revoked::Session(name),
        2 => Revoked::Key(name),
        3 => to(&name, NOW),
        4 => in_session(&name, NOW),
        5 => Revoked::SignIns { up_to: Timestamp::MIN },
        _ => Revoked::Issued { up_to: Timestamp::MIN },
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever the token is revoked by and whichever entry that is, above all one at which the table grows, it is refused
    /// from then on, whatever comes after, repeats it or is forgotten. Sizes beyond 16,400 entries are left out for time.
    #[test]
    fn what_is_revoked_is_refused_whichever_entry_it_is(
        kind in 0..5_usize,
        place in prop_oneof![0..20_usize, 4_090..4_102_usize, 16_380..16_390_usize],
        others in proptest::collection::vec(0..7_usize, 1..8),
        after in 0..8_usize,
        repeated: bool,
    ) {
        let (token, known) = (checked(true), Revocations::new());
        let add = |what, until| known.add(&Revocation { what, until });
        for number in 0..place {
            add(other(others[number % others.len()], number), UNTIL.before(MICRO));
        }
        prop_assert!(known.check(&token, NOW).is_ok(), "nothing of the token's is revoked yet");
        add(by_name(kind), UNTIL);
        prop_assert!(known.check(&token, NOW).is_err(), "entry {}", place + 1);
        for number in place..place + after {
            add(other(others[number % others.len()], number), UNTIL.before(MICRO));
        }
        if repeated {
            add(by_name(kind), NOW);
        }
        prop_assert!(known.check(&token, NOW).is_err(), "after {} more", after);
        known.forget(UNTIL.before(MICRO));
        prop_assert!(known.check(&token, UNTIL.before(MICRO)).is_err(), "after the others were forgotten");
        prop_assert_eq!(known.len(), 1);
    }
}

/// The same for each kind at the exact entries at which the table grows, and at their neighbours.
#[test]
fn no_growth_lets_anything_slip_through() {
    let places = [4_096, 16_384].map(|full| [full - 1, full, full + 1]).concat();
    for (kind, place) in (0..5).flat_map(|kind| places.iter().map(move |place| (kind, *place))) {
        let (token, known) = (checked(true), Revocations::new());
        for number in 0..place {
            known.add(&Revocation { what: other(1, number), until: UNTIL });
        }
        known.add(&Revocation { what: by_name(kind), until: UNTIL });
        assert!(known.check(&token, NOW).is_err(), "kind {kind} as entry {}", place + 1);
    }
}
