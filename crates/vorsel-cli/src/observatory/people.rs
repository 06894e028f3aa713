//! The made-up people, their passwords and what they may do.

use argon2::Argon2;
use argon2::password_hash::PasswordVerifier;
use argon2::password_hash::phc::PasswordHash;
use async_trait::async_trait;
use serde::Deserialize;
use vorsel::{Admission, AdmissionError, Grant, Scopes};

use super::staff::{Shift, Staff};
use crate::failure::Failure;

/// Everybody at Skarn Hill.
pub(super) struct People {
    people: Vec<Person>,
    nobody_password: String,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Person {
    pub(super) subject: String,
    pub(super) nickname: String,
    pub(super) roles: Vec<String>,
    scope: String,
    training: u8,
    shift: Option<Shift>,
    confirmed: bool,
    password: String,
}

#[derive(Deserialize)]
struct PeopleFile {
    people: Vec<Person>,
}

impl People {
    /// The people in `demo/people.toml`, as they were when the command was built.
    pub(super) fn demo(nobody_password: String) -> Result<Self, Failure> {
        let file: PeopleFile = toml_edit::de::from_str(include_str!("../../../../demo/people.toml"))
            .map_err(|error| Failure::from(error).while_doing("demo/people.toml"))?;
        Ok(Self { people: file.people, nobody_password })
    }

    /// The person of this subject.
    pub(super) fn find(&self, subject: &str) -> Option<&Person> {
        self.people.iter().find(|person| person.subject == subject)
    }

    /// Whether this is the password of a known subject. It takes as long for an unknown one.
    pub(super) fn knows(&self, subject: &str, password: &str) -> bool {
        let person = self.find(subject);
        let hash = person.map_or(&self.nobody_password, |person| &person.password);
        let right = PasswordHash::new(hash)
            .is_ok_and(|hash| Argon2::default().verify_password(password.as_bytes(), &hash).is_ok());
        right && person.is_some()
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
            roles: person.roles.clone(),
            scopes: Scopes::parse(&person.scope).map_err(|error| AdmissionError::Unavailable(error.into()))?,
            own: Staff { training: person.training, shift: person.shift, confirmed: person.confirmed },
        })
    }
}
