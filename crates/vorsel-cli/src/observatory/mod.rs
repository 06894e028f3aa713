//! The Skarn Hill observatory: a made-up API, guarded by the library, for `vorsel serve` and `vorsel tour`.

mod people;
mod routes;
mod settings;
mod sign_in;
mod staff;
mod state;

use std::sync::Arc;
use std::time::Duration;

use vorsel::endpoints::Endpoints;
use vorsel::store::SessionStore;
use vorsel::{
    AccessPlan, Checker, Expectations, Guard, GuardedApp, IssuerKeys, Lifetime, LiveRevocations, SessionLimits,
    Sessions, WhenSilent,
};

use crate::failure::Failure;
use people::{InstrumentKeys, People};
pub(crate) use settings::Settings;
pub(crate) use staff::Staff;
use state::Observatory;

/// What an observatory is opened with.
pub(crate) struct Opening {
    pub(crate) settings: Settings,
    pub(crate) keys: IssuerKeys,
    pub(crate) store: Arc<dyn SessionStore>,
    /// What is revoked, from that store's feed.
    pub(crate) revocations: LiveRevocations,
    pub(crate) access_lifetime: Lifetime,
    pub(crate) limits: SessionLimits,
    /// How far the clock of another instance may be ahead.
    pub(crate) clock_difference: Duration,
    /// Where clients reach it, for the metadata.
    pub(crate) base: String,
}

/// The access plan in `demo/access.toml`, as it was when the command was built.
pub(crate) fn access_plan() -> Result<AccessPlan, Failure> {
    Ok(AccessPlan::read(include_str!("../../../../demo/access.toml"), "demo/access.toml")?)
}

/// How long the feed may be silent before a route that asks for current revocations is closed.
const LONGEST_SILENCE: Duration = Duration::from_secs(10);

/// The whole API behind one guard, and the sessions it keeps.
pub(crate) fn open(opening: Opening) -> Result<(GuardedApp, Arc<Sessions<Staff>>), Failure> {
    let Opening { settings, keys, store, revocations, access_lifetime, limits, clock_difference, base } = opening;
    // What is expired is expired: the tokens come from instances of this very service, and a demo shows bare times.
    let expectations = Expectations::access(&settings.issuer, &settings.audience).skew(Duration::ZERO)?;
    let expectations = expectations.issuer_ahead(clock_difference)?;
    let checker = Checker::new(keys.access.clone(), expectations);
    let people = Arc::new(People::demo(settings.nobody_password)?);
    let sessions = Sessions::builder(&settings.issuer, &settings.audience)
        .keys(keys)
        .store(store)
        .admission(people.clone())
        .roles_of(&access_plan()?)
        .access_lifetime(access_lifetime)
        .limits(limits)
        .revocations(revocations.clone())
        .build()?;
    let sessions = Arc::new(sessions);
    let endpoints = Endpoints::new(sessions.clone(), &base).prefix(&settings.prefix).client(&settings.client);
    let observatory = Arc::new(Observatory { people, sessions: sessions.clone(), client: settings.client });
    let guard = Guard::<Staff>::builder(checker, access_plan()?)
        .api_keys("x-instrument-key", InstrumentKeys(observatory.people.clone()))
        .predicate("queued-by-caller", routes::queued_by_caller)
        .revocations(revocations, LONGEST_SILENCE, WhenSilent::GoOn)
        .build()?;
    Ok((routes::routes(observatory).merge(endpoints.routes()).guard(guard)?, sessions))
}
