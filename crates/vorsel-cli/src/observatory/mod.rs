//! The Skarn Hill observatory: a made-up API, guarded by the library, for `vorsel serve` and `vorsel tour`.

mod page;
mod people;
mod routes;
mod staff;

use std::path::Path;
use std::sync::Arc;

use http::Uri;
use vorsel::endpoints::{Browser, Endpoint, Endpoints, PasswordSignIn, resource_metadata_address};
use vorsel::{AccessPlan, Clients, GuardedApp, Opened, Routes, Sessions, Settings, Tickets};

use crate::failure::Failure;
use people::{InstrumentKeys, People};
pub(crate) use staff::Staff;

/// The client that people sign in with.
pub(crate) const CLIENT: &str = "desk";
/// The client of the page at `/`.
const PAGE: &str = "page";
/// What the endpoints' paths begin with.
pub(crate) const PREFIX: &str = "/oauth";

const PLAN: &str = include_str!("../../../../demo/access.toml");

/// The access plan in `demo/access.toml`, as it was when the command was built.
pub(crate) fn access_plan() -> Result<AccessPlan, Failure> {
    Ok(AccessPlan::read(PLAN, "demo/access.toml")?)
}

/// The same plan where the issuer or the audience has a path, which the paths of its metadata end with.
fn access_plan_for(endpoints: &Endpoints<Staff>) -> Result<AccessPlan, Failure> {
    let to_open = endpoints.to_open()?;
    let text = ["/.well-known/oauth-authorization-server", "/.well-known/oauth-protected-resource"].iter().fold(
        PLAN.to_owned(),
        |text, name| match to_open.iter().find(|(_, path)| path.starts_with(name)) {
            Some((_, path)) => text.replace(&format!("\"{name}\""), &format!("{path:?}")),
            None => text,
        },
    );
    Ok(AccessPlan::read(&text, "demo/access.toml")?)
}

/// The clients in `demo/clients.toml`, as they were when the command was built.
fn clients() -> Result<Clients, Failure> {
    Ok(Clients::read(include_str!("../../../../demo/clients.toml"), Path::new("demo/clients.toml"))?)
}

/// The settings in `demo/vorsel.toml`, as they were when the command was built, and the environment over them.
pub(crate) fn settings(variables: impl IntoIterator<Item = (String, String)>) -> Result<Settings, Failure> {
    Ok(Settings::read(include_str!("../../../../demo/vorsel.toml"), Path::new("vorsel.toml"), variables)?)
}

/// The whole API behind one guard, and the sessions it keeps. Clients reach it at `base`.
pub(crate) fn open(
    opened: &Opened,
    base: &str,
    is_throttled: bool,
) -> Result<(GuardedApp, Arc<Sessions<Staff>>), Failure> {
    let people = Arc::new(People::demo()?);
    let (plan, audience) = (opened.settings.plan.clone(), opened.settings.audience.as_str());
    let clients = opened.settings.clients.clone().map_or_else(clients, Ok)?;
    let sessions =
        opened.sessions(people.clone()).clients(clients).roles_of(&plan.clone().map_or_else(access_plan, Ok)?);
    let sessions = Arc::new(sessions.build()?);
    let tickets = Tickets::new(opened.store.clone());
    let endpoints = Endpoints::new(sessions.clone(), base).prefix(PREFIX).tickets(tickets.clone());
    let known = people.clone();
    let sign_in = PasswordSignIn::new(move |typed| {
        let found = known.known(&typed);
        async { Ok(found) }
    });
    let endpoints = endpoints.with(Endpoint::Introspection).with(Endpoint::ResourceMetadata).with(Endpoint::Feed);
    // A plan of somebody's own may leave the page out, and is not to be opened for its sake.
    let with_page = plan.as_ref().is_none_or(page::is_in);
    let endpoints = if with_page { endpoints.with(Endpoint::OwnSessions) } else { endpoints.without(Endpoint::Ticket) };
    let endpoints = if is_throttled { endpoints } else { endpoints.danger_without_throttle() };
    let endpoints = endpoints.sign_in(sign_in.client(CLIENT)).at(Endpoint::SignIn, "/sign-in").browser(browser(base));
    let plan = plan.map_or_else(|| access_plan_for(&endpoints), Ok)?;
    let guard = opened
        .guard_by::<Staff>(plan)
        .resource_metadata(&resource_metadata_address(audience)?)
        .api_keys("x-instrument-key", InstrumentKeys(people.clone()))
        .tickets("ticket", tickets)
        .predicate("queued-by-caller", routes::queued_by_caller)
        .build()?;
    let page = match with_page {
        true => page::routes(guard.clone(), opened.keys.access.clone(), opened.settings.expectations()),
        false => Routes::new(),
    };
    Ok((routes::routes(people).merge(page).merge(endpoints.routes()?).guard(guard)?, sessions))
}

/// The page keeps its refresh token in a cookie; over plain http only on this machine.
fn browser(base: &str) -> Browser {
    let origin = match base.parse::<Uri>().map(Uri::into_parts) {
        Ok(parts) => match (parts.scheme, parts.authority) {
            (Some(scheme), Some(authority)) => format!("{scheme}://{authority}"),
            _ => base.to_owned(),
        },
        Err(_) => base.to_owned(),
    };
    // The sign-in lies outside of /oauth, and is to find the session there.
    let browser = Browser::new(&origin, [PAGE]).host_cookie();
    if origin.starts_with("http://") { browser.danger_http_on_this_machine() } else { browser }
}
