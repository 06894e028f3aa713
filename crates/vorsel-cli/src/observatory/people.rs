//! The made-up people and instruments, their passwords and keys, and what they may do.

use std::collections::BTreeMap;
use std::error::Error;
use std::sync::{Arc, Mutex, PoisonError};

use async_trait::async_trait;
use serde::Deserialize;
use vorsel::endpoints::Known;
use vorsel::{Admission, AdmissionError, ApiKeyHash, ApiKeyOwner, ApiKeys, Grant, Scopes};

use super::staff::{Shift, Staff};
use crate::failure::Failure;

/// Everybody at Skarn Hill.
pub(super) struct People {
    people: Vec<Person>,
    instruments: Vec<Instrument>,
    /// Roles given since the start, by subject.
    given: Mutex<BTreeMap<String, Vec<String>>>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Person {
    pub(super) subject: String,
    pub(super) nickname: String,
    roles: Vec<String>,
    scope: String,
    training: u8,
    shift: Option<Shift>,
    confirmed: bool,
    password: String,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Instrument {
    subject: String,
    instruments: Vec<String>,
    key_hash: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PeopleFile {
    people: Vec<Person>,
    instruments: Vec<Instrument>,
}

impl People {
    /// The people in `demo/people.toml`, as they were when the command was built.
    pub(super) fn demo() -> Result<Self, Failure> {
        let file: PeopleFile = toml_edit::de::from_str(include_str!("../../../../demo/people.toml"))
            .map_err(|error| Failure::from(error).while_doing("demo/people.toml"))?;
        let PeopleFile { people, instruments } = file;
        Ok(Self { people, instruments, given: Mutex::default() })
    }

    /// The roles of somebody, now.
    pub(super) fn roles(&self, person: &Person) -> Vec<String> {
        let given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        given.get(&person.subject).unwrap_or(&person.roles).clone()
    }

    /// Gives somebody these roles instead. They count from the next sign-in or renewal on.
    pub(super) fn give(&self, person: &Person, roles: Vec<String>) {
        self.given.lock().unwrap_or_else(PoisonError::into_inner).insert(person.subject.clone(), roles);
    }

    /// The person of this subject.
    pub(super) fn find(&self, subject: &str) -> Option<&Person> {
        self.people.iter().find(|person| person.subject == subject)
    }

    /// Somebody who signs in, as the sign-in endpoint asks for them.
    pub(super) fn known(&self, typed: &str) -> Option<Known> {
        let person = self.find(typed)?;
        Some(Known::new(&person.subject, &person.password).member("nickname", person.nickname.as_str()))
    }
}

#[async_trait]
impl Admission<Staff> for People {
    async fn admit(&self, subject: &str, _: &str) -> Result<Grant<Staff>, AdmissionError> {
        let denied = |reason: &str| AdmissionError::Denied { reason: reason.to_owned() };
        let person = self.find(subject).ok_or_else(|| denied("nobody of this subject"))?;
        if !person.confirmed {
            return Err(denied("the address is not confirmed"));
        }
        Ok(Grant {
            roles: self.roles(person),
            scopes: Scopes::parse(&person.scope).map_err(|error| AdmissionError::Unavailable(error.into()))?,
            own: Staff {
                training: person.training,
                shift: person.shift,
                confirmed: person.confirmed,
                ..Staff::default()
            },
        })
    }

    /// The dome controller may move the dome as far as a trained operator may; the archive reads exposures.
    async fn admit_client(&self, client_id: &str) -> Result<Grant<Staff>, AdmissionError> {
        let (roles, scope, training) = match client_id {
            "dome-controller" => (vec!["operator".to_owned()], "dome:move", 3),
            "archive" => (Vec::new(), "exposures:read", 0),
            _ => (Vec::new(), "", 0),
        };
        let scopes = Scopes::parse(scope).map_err(|error| AdmissionError::Unavailable(error.into()))?;
        Ok(Grant { roles, scopes, own: Staff { training, ..Staff::default() } })
    }
}

/// The instruments' keys, for the guard.
pub(super) struct InstrumentKeys(pub(super) Arc<People>);

#[async_trait]
impl ApiKeys<Staff> for InstrumentKeys {
    async fn owner(&self, hash: &ApiKeyHash) -> Result<Option<ApiKeyOwner<Staff>>, Box<dyn Error + Send + Sync>> {
        let hash = hash.to_string();
        let instrument = self.0.instruments.iter().find(|instrument| instrument.key_hash == hash);
        Ok(instrument.map(|Instrument { subject, instruments, .. }| {
            let own = Staff { instruments: instruments.clone(), ..Staff::default() };
            ApiKeyOwner::subject(subject, Grant { roles: Vec::new(), scopes: Scopes::default(), own })
        }))
    }
}
