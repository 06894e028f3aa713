//! The Skarn Hill observatory: a made-up API, guarded by the library, for `vorsel serve` and `vorsel tour`.

mod people;
mod routes;
mod sign_in;
mod staff;
mod state;

use std::path::Path;
use std::sync::Arc;

use vorsel::endpoints::Endpoints;
use vorsel::{AccessPlan, GuardedApp, Opened, Sessions, Settings};

use crate::failure::Failure;
use people::{InstrumentKeys, People};
pub(crate) use staff::Staff;
use state::Observatory;

/// The client that people sign in with.
pub(crate) const CLIENT: &str = "desk";
/// What the endpoints' paths begin with.
pub(crate) const PREFIX: &str = "/oauth";

/// The access plan in `demo/access.toml`, as it was when the command was built.
pub(crate) fn access_plan() -> Result<AccessPlan, Failure> {
    Ok(AccessPlan::read(include_str!("../../../../demo/access.toml"), "demo/access.toml")?)
}

/// The settings in `demo/vorsel.toml`, as they were when the command was built, and the environment over them.
pub(crate) fn settings(variables: impl IntoIterator<Item = (String, String)>) -> Result<Settings, Failure> {
    Ok(Settings::read(include_str!("../../../../demo/vorsel.toml"), Path::new("vorsel.toml"), variables)?)
}

/// The whole API behind one guard, and the sessions it keeps. Clients reach it at `base`.
pub(crate) fn open(opened: &Opened, base: &str) -> Result<(GuardedApp, Arc<Sessions<Staff>>), Failure> {
    let people = Arc::new(People::demo()?);
    let plan = opened.settings.plan.clone().map_or_else(access_plan, Ok)?;
    let sessions = Arc::new(opened.sessions(people.clone()).roles_of(&plan).build()?);
    let endpoints = Endpoints::new(sessions.clone(), base).prefix(PREFIX).client(CLIENT);
    let observatory = Arc::new(Observatory { people, sessions: sessions.clone() });
    let guard = opened
        .guard_by::<Staff>(plan)
        .api_keys("x-instrument-key", InstrumentKeys(observatory.people.clone()))
        .predicate("queued-by-caller", routes::queued_by_caller)
        .build()?;
    Ok((routes::routes(observatory).merge(endpoints.routes()).guard(guard)?, sessions))
}
