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

fn subject(name: &str, up_to: Timestamp) -> Revoked {
    Revoked::Subject { subject: name.to_owned(), up_to }
}

#[test]
fn a_token_is_revoked_by_whatever_it_stands_on_and_by_nothing_else() {
    let token = checked(true);
    let signed_in = NOW.before(Duration::from_secs(60));
    let second_before = signed_in.before(MICRO);
    let same_second = signed_in.after(Duration::from_millis(999));
    for (what, found) in [
        (Revoked::Token("t1".to_owned()), Some("its jti \"t1\" revoked")),
        (Revoked::Token("s1".to_owned()), None),
        (Revoked::Session("s1".to_owned()), Some("its session \"s1\" revoked")),
        (Revoked::Session("S1".to_owned()), None),
        (Revoked::Key("k1".to_owned()), Some("its key \"k1\" revoked")),
        (Revoked::Key("k2".to_owned()), None),
        (subject("obs-0017", signed_in), Some("the sign-ins of \"obs-0017\" up to 2023-11-14T22:12:20Z revoked")),
        (subject("obs-0017", same_second), Some("the sign-ins of \"obs-0017\" up to 2023-11-14T22:12:20.999Z revoked")),
        (subject("obs-0017", second_before), None),
        (subject("obs-0018", NOW), None),
        (Revoked::Everything { up_to: signed_in }, Some("all sign-ins up to 2023-11-14T22:12:20Z revoked")),
        (Revoked::Everything { up_to: second_before }, None),
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
fn a_token_without_a_sign_in_counts_by_when_it_was_issued() {
    let token = checked(false);
    assert!(known(Revoked::Everything { up_to: NOW }).check(&token, NOW).is_err());
    assert!(known(Revoked::Everything { up_to: NOW.before(MICRO) }).check(&token, NOW).is_ok());
}

#[test]
fn an_entry_that_comes_again_only_ever_grows() {
    let (token, later) = (checked(true), UNTIL.after(Duration::from_secs(60)));
    for (first, second) in [
        (Revoked::Session("s1".to_owned()), Revoked::Session("s1".to_owned())),
        (subject("obs-0017", NOW), subject("obs-0017", Timestamp::MIN)),
        (Revoked::Everything { up_to: NOW }, Revoked::Everything { up_to: Timestamp::MIN }),
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
    let kinds = [Revoked::Session, Revoked::Token, Revoked::Key, |name: String| subject(&name, NOW)];
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

/// The four names that the token of [`checked`] can be revoked by.
fn by_name(kind: usize) -> Revoked {
    match kind {
        0 => Revoked::Token("t1".to_owned()),
        1 => Revoked::Session("s1".to_owned()),
        2 => Revoked::Key("k1".to_owned()),
        _ => subject("obs-0017", NOW),
    }
}

/// The n-th of many others, of any kind.
fn other(kind: usize, number: usize) -> Revoked {
    let name = format!("other {number}");
    match kind {
        0 => Revoked::Token(name),
        1 => Revoked::Session(name),
        2 => Revoked::Key(name),
        3 => subject(&name, NOW),
        _ => Revoked::Everything { up_to: Timestamp::MIN },
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 96, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever the token is revoked by and whichever entry that is, above all one at which the table grows, it is refused
    /// from then on, whatever comes after, repeats it or is forgotten. Sizes beyond 16,400 entries are left out for time.
    #[test]
    fn what_is_revoked_is_refused_whichever_entry_it_is(
        kind in 0..4_usize,
        place in prop_oneof![0..20_usize, 4_090..4_102_usize, 16_380..16_390_usize],
        others in proptest::collection::vec(0..5_usize, 1..8),
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
    for (kind, place) in (0..4).flat_map(|kind| places.iter().map(move |place| (kind, *place))) {
        let (token, known) = (checked(true), Revocations::new());
        for number in 0..place {
            known.add(&Revocation { what: other(1, number), until: UNTIL });
        }
        known.add(&Revocation { what: by_name(kind), until: UNTIL });
        assert!(known.check(&token, NOW).is_err(), "kind {kind} as entry {}", place + 1);
    }
}
