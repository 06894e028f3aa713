//! What a signed-in caller may reach, for pages that grey out what leads nowhere.

use std::sync::Arc;

use axum::Json;
use axum::response::{IntoResponse, Response};
use axum::routing::{MethodRouter, get};
use http::header::CACHE_CONTROL;
use serde_json::{Value, json};
use vorsel_core::AccessPlan;

use crate::guard::Caller;

/// A handler that tells a caller which routes of the plan they may reach, which of these hang on something (`sign-in`, `path`, `check`),
/// and the roles that they hold: never the rule. What is not named they may not reach. It goes by this machine's clock.
///
/// ```
/// use vorsel::endpoints::own_reach;
/// use vorsel::{AccessPlan, NoOwn, Routes};
///
/// # fn routes() -> Result<Routes, Box<dyn std::error::Error>> {
/// let plan = AccessPlan::builder().need("GET", "/me/reach", "signed-in").build()?;
/// let routes = Routes::new().route("/me/reach", own_reach::<NoOwn, ()>(&plan));
/// # Ok(routes)
/// # }
/// ```
pub fn own_reach<C, S>(plan: &AccessPlan) -> MethodRouter<S>
where
    C: Send + Sync + 'static,
    S: Clone + Send + Sync + 'static,
{
    let plan = Arc::new(plan.clone());
    get(move |caller: Caller<C>| {
        let answer = told(&plan, &caller);
        async move { answer }
    })
}

fn told<C>(plan: &AccessPlan, caller: &Caller<C>) -> Response {
    let reached = plan.reached_by(caller.facts(&[]), crate::clock::now());
    let routes: Vec<Value> = reached
        .iter()
        .map(|route| {
            let mut told = json!({ "method": route.method, "path": route.path });
            if !route.hangs_on.is_empty() {
                told["hangs_on"] = route.hangs_on.iter().map(|on| on.as_str()).collect();
            }
            told
        })
        .collect();
    let roles: Vec<&str> = caller.roles().collect();
    ([(CACHE_CONTROL, "no-store")], Json(json!({ "roles": roles, "routes": routes }))).into_response()
}
