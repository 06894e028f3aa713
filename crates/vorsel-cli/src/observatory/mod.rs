//! The Skarn Hill observatory: a made-up API, guarded by the library, for `vorsel serve` and `vorsel tour`.

mod people;
mod routes;
mod sign_in;

use std::sync::Arc;

use axum::Router;
use serde::{Deserialize, Serialize};
use vorsel::endpoints::Endpoints;
use vorsel::store::SessionStore;
use vorsel::{AccessPlan, Expectations, Guard, Issuer, KeyFolder, KeySet, Lifetime, SessionLimits, Sessions, Verifier};

use crate::failure::Failure;
use people::People;

/// The observatory's own claims.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Staff {
    /// How far the training went; 0 for none.
    #[serde(default)]
    pub(crate) training: u8,
    /// The part of the night somebody works in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) shift: Option<Shift>,
    /// Whether the address was confirmed.
    #[serde(default)]
    pub(crate) confirmed: bool,
}

/// A part of the night.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Shift {
    Dusk,
    Night,
    Dawn,
}

/// What the demo runs with.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Settings {
    pub(crate) issuer: String,
    pub(crate) audience: String,
    pub(crate) client: String,
    pub(crate) prefix: String,
    pub(crate) access_lifetime: u64,
    pub(crate) retry_window: u64,
    nobody_password: String,
}

impl Settings {
    /// The settings in `demo/settings.toml`, as they were when the command was built.
    pub(crate) fn demo() -> Result<Self, Failure> {
        toml_edit::de::from_str(include_str!("../../../../demo/settings.toml"))
            .map_err(|error| Failure::from(error).while_doing("demo/settings.toml"))
    }
}

/// What an observatory is opened with.
pub(crate) struct Opening {
    pub(crate) settings: Settings,
    pub(crate) keys: KeyFolder,
    pub(crate) store: Arc<dyn SessionStore>,
    pub(crate) access_lifetime: Lifetime,
    pub(crate) limits: SessionLimits,
    /// Where clients reach it, for the metadata.
    pub(crate) base: String,
}

/// What the handlers share.
struct Observatory {
    people: Arc<People>,
    sessions: Arc<Sessions<Staff>>,
    client: String,
}

/// The access plan in `demo/access.toml`, as it was when the command was built.
pub(crate) fn access_plan() -> Result<AccessPlan, Failure> {
    Ok(AccessPlan::read(include_str!("../../../../demo/access.toml"), "demo/access.toml")?)
}

/// The whole API behind one guard.
pub(crate) fn open(opening: Opening) -> Result<Router, Failure> {
    let Opening { settings, keys, store, access_lifetime, limits, base } = opening;
    let verifier = Verifier::new(
        KeySet::new([keys.access.verifying_key()]),
        Expectations::access(&settings.issuer, &settings.audience),
    );
    let people = Arc::new(People::demo(settings.nobody_password)?);
    let issuer = Issuer::new(&settings.issuer, keys.access);
    let sessions = Sessions::new(issuer, keys.refresh, &settings.audience, store, people.clone())?
        .access_lifetime(access_lifetime)
        .limits(limits);
    let sessions = Arc::new(sessions);
    let endpoints = Endpoints::new(sessions.clone(), &base, &settings.prefix, &[&settings.client]);
    let observatory = Arc::new(Observatory { people, sessions, client: settings.client });
    Ok(routes::routes(observatory).merge(endpoints.router()).layer(Guard::<Staff>::new(verifier, access_plan()?)))
}
