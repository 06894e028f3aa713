//! A stretch of the feed as a security event, for those who follow the issuer without its store.

use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{Revocation, Revoked};
use crate::time::Timestamp;

/// A stretch of the feed, as an issuer tells it ([RFC 8417 section 2.2](https://www.rfc-editor.org/rfc/rfc8417#section-2.2)):
/// `{"urn:vorsel:revocations": {"entries": [{"session": "s-1", "until": 1800000600}]}}`.
///
/// Moments are whole seconds, as tokens have them: what was issued in the second of an `issued_up_to` is meant. Whoever reads an entry
/// that is not understood refuses the whole, since something would be taken to stand that was revoked.
///
/// ```
/// use vorsel_core::{FeedEvent, Revocation, Revoked, Timestamp};
///
/// let until = Timestamp::from_secs(1_800_000_600);
/// let event = FeedEvent { is_anew: true, entries: vec![Revocation { what: Revoked::Session("s-1".to_owned()), until }] };
/// let text = serde_json::to_string(&event)?;
/// assert_eq!(serde_json::from_str::<FeedEvent>(&text)?, event);
/// # Ok::<(), serde_json::Error>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FeedEvent {
    /// Whether the feed begins here: it is read for the first time, or another one is in its place than was read before.
    pub is_anew: bool,
    /// The entries, in order.
    pub entries: Vec<Revocation>,
}

impl FeedEvent {
    /// What the event is called.
    pub const URI: &str = "urn:vorsel:revocations";
}

/// What is said of the event; events of other names are not ours to read.
#[derive(Serialize, Deserialize)]
struct Events<S> {
    #[serde(rename = "urn:vorsel:revocations")]
    stretch: S,
}

#[derive(Serialize)]
struct Written<'a> {
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    anew: bool,
    entries: Vec<Entry<&'a str>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Read {
    #[serde(default)]
    anew: bool,
    entries: Vec<Entry<String>>,
}

/// An entry: which of the first four are there says what it is of; without any, it is of everybody.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields, bound(deserialize = "S: Deserialize<'de>"))]
struct Entry<S> {
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    token: Option<S>,
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    session: Option<S>,
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    subject: Option<S>,
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    key: Option<S>,
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    issued_up_to: Option<i64>,
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    began_up_to: Option<i64>,
    /// Without it, for ever.
    #[serde(default = "nothing", deserialize_with = "there", skip_serializing_if = "Option::is_none")]
    until: Option<i64>,
}

const fn nothing<T>() -> Option<T> {
    None
}

/// `null` is not absent.
fn there<'de, T: Deserialize<'de>, D: Deserializer<'de>>(deserializer: D) -> Result<Option<T>, D::Error> {
    T::deserialize(deserializer).map(Some)
}

impl<'a> Entry<&'a str> {
    fn of(revocation: &'a Revocation) -> Self {
        let forever = revocation.until == Timestamp::MAX;
        let until = (!forever).then(|| revocation.until.next_whole_sec().as_secs());
        let none =
            Self { token: None, session: None, subject: None, key: None, issued_up_to: None, began_up_to: None, until };
        match &revocation.what {
            Revoked::Token(id) => Self { token: Some(id), ..none },
            Revoked::Session(id) => Self { session: Some(id), ..none },
            Revoked::Key(id) => Self { key: Some(id), ..none },
            Revoked::SignIns { up_to } => Self { began_up_to: Some(up_to.as_secs()), ..none },
            Revoked::Issued { up_to } => Self { issued_up_to: Some(up_to.as_secs()), ..none },
            Revoked::IssuedTo { subject, up_to } => {
                Self { subject: Some(subject), issued_up_to: Some(up_to.as_secs()), ..none }
            }
            Revoked::IssuedInSession { session, up_to } => {
                Self { session: Some(session), issued_up_to: Some(up_to.as_secs()), ..none }
            }
        }
    }
}

impl Entry<String> {
    fn revocation(self) -> Result<Revocation, &'static str> {
        let until = self.until.map_or(Timestamp::MAX, Timestamp::from_secs);
        let at = Timestamp::from_secs;
        let Self { token, session, subject, key, issued_up_to, began_up_to, .. } = self;
        let what = match (token, session, subject, key, issued_up_to, began_up_to) {
            (Some(id), None, None, None, None, None) => Revoked::Token(id),
            (None, Some(id), None, None, None, None) => Revoked::Session(id),
            (None, None, None, Some(id), None, None) => Revoked::Key(id),
            (None, None, None, None, None, Some(up_to)) => Revoked::SignIns { up_to: at(up_to) },
            (None, None, None, None, Some(up_to), None) => Revoked::Issued { up_to: at(up_to) },
            (None, None, Some(subject), None, Some(up_to), None) => Revoked::IssuedTo { subject, up_to: at(up_to) },
            (None, Some(session), None, None, Some(up_to), None) => {
                Revoked::IssuedInSession { session, up_to: at(up_to) }
            }
            _ => return Err("expected an entry of one token, session, subject, key or of all, but found another"),
        };
        Ok(Revocation { what, until })
    }
}

impl Serialize for FeedEvent {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let entries = self.entries.iter().map(Entry::of).collect();
        Events { stretch: Written { anew: self.is_anew, entries } }.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for FeedEvent {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let Events { stretch: Read { anew, entries } } = Events::deserialize(deserializer)?;
        let entries = entries.into_iter().map(Entry::revocation).collect::<Result<_, _>>().map_err(D::Error::custom)?;
        Ok(Self { is_anew: anew, entries })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn moments() -> impl Strategy<Value = Timestamp> {
        let seconds = prop_oneof![Just(0), Just(-1), Just(1_800_000_000), -4_000_000_000_i64..9_000_000_000_000];
        seconds.prop_map(Timestamp::from_secs)
    }

    /// Of whole seconds; fractions have a test of their own.
    fn entries() -> impl Strategy<Value = Revocation> {
        let names = || prop_oneof![Just(String::new()), ".{0,40}", "[a-z]{2000}", Just("\"\\\n\u{1f52d}".to_owned())];
        let what = prop_oneof![
            names().prop_map(Revoked::Token),
            names().prop_map(Revoked::Session),
            names().prop_map(Revoked::Key),
            moments().prop_map(|up_to| Revoked::SignIns { up_to }),
            moments().prop_map(|up_to| Revoked::Issued { up_to }),
            (names(), moments()).prop_map(|(subject, up_to)| Revoked::IssuedTo { subject, up_to }),
            (names(), moments()).prop_map(|(session, up_to)| Revoked::IssuedInSession { session, up_to }),
        ];
        let until = prop_oneof![moments(), Just(Timestamp::MAX)];
        (what, until).prop_map(|(what, until)| Revocation { what, until })
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn what_is_written_is_read(is_anew: bool, entries in prop::collection::vec(entries(), 0..20)) {
            let event = FeedEvent { is_anew, entries };
            let text = serde_json::to_string(&event).expect("JSON");
            prop_assert_eq!(serde_json::from_str::<FeedEvent>(&text).expect("an event"), event);
        }

        /// What is told of a moment covers it, and is remembered for as long at least.
        #[test]
        fn a_fraction_of_a_second_loses_nothing(up_to in -5_000_000_i64..5_000_000, until in -5_000_000_i64..5_000_000) {
            let (up_to, until) = (Timestamp::from_micros(up_to), Timestamp::from_micros(until));
            let entry = Revocation { what: Revoked::Issued { up_to }, until };
            let text = serde_json::to_string(&FeedEvent { is_anew: false, entries: vec![entry] }).expect("JSON");
            let read = serde_json::from_str::<FeedEvent>(&text).expect("an event").entries.remove(0);
            prop_assert_eq!(read.what, Revoked::Issued { up_to: up_to.whole_secs() });
            prop_assert!(read.until >= until && read.until < until.after(std::time::Duration::from_secs(1)));
        }
    }

    #[test]
    fn what_is_not_understood_is_refused() {
        for (stretch, fine) in [
            (r#"{"entries":[]}"#, true),
            (r#"{"anew":true,"entries":[{"key":"k"}]}"#, true),
            (r#"{"entries":[{"session":"s","issued_up_to":1,"until":2}]}"#, true),
            (r#"{}"#, false),
            (r#"{"entries":[{}]}"#, false),
            (r#"{"entries":[{"until":2}]}"#, false),
            (r#"{"entries":[{"session":"s","token":"t","until":2}]}"#, false),
            (r#"{"entries":[{"subject":"s","until":2}]}"#, false),
            (r#"{"entries":[{"token":"t","issued_up_to":1,"until":2}]}"#, false),
            (r#"{"entries":[{"token":null,"session":"s","until":2}]}"#, false),
            (r#"{"entries":[{"session":"s","until":null}]}"#, false),
            (r#"{"entries":[{"session":"s","until":2.5}]}"#, false),
            (r#"{"entries":[{"session":"s","until":2,"device":"d"}]}"#, false),
            (r#"{"entries":[],"more":1}"#, false),
        ] {
            let text = format!("{{\"urn:other\":{{\"x\":1}},\"{}\":{stretch}}}", FeedEvent::URI);
            let read = serde_json::from_str::<FeedEvent>(&text);
            assert_eq!(read.is_ok(), fine, "{stretch}: {read:?}");
        }
        assert!(serde_json::from_str::<FeedEvent>("{}").is_err(), "another event alone");
    }
}
