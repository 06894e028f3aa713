//! Rows: a list that is filtered to the caller, and one row whose being there is nobody else's business.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::State;
use axum::routing::get;
use tower::ServiceExt;
use vorsel::testing::TestIssuer;
use vorsel::{AccessPlan, Answered, Caller, NoOwn, PredicateAnswer, PredicateRequest};

/// A proposal, and whose it is.
#[derive(Clone)]
struct Proposal {
    title: &'static str,
    observer: &'static str,
}

type Proposals = Arc<BTreeMap<&'static str, Proposal>>;

/// The caller's own: the query has the filter, so that no row of others is ever loaded.
async fn list(State(proposals): State<Proposals>, caller: Caller) -> String {
    let own = proposals.iter().filter(|(_, proposal)| proposal.observer == caller.subject());
    own.map(|(id, proposal)| format!("{id} {}", proposal.title)).collect::<Vec<_>>().join(", ")
}

/// What the predicate has looked up comes along; nothing is looked up twice.
async fn one(caller: Caller) -> String {
    caller.loaded::<Proposal>().map_or_else(String::new, |proposal| proposal.title.to_owned())
}

/// The rule says `predicate own-proposal`. Somebody else's proposal and one that is not there are answered alike.
fn own(proposals: &Proposals, caller: &Caller, request: &PredicateRequest) -> Answered {
    match proposals.get(request.path("id").unwrap_or_default()) {
        Some(proposal) if proposal.observer == caller.subject() => Answered::yes().with(proposal.clone()),
        _ => Answered::hidden(),
    }
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let proposals: Proposals = Arc::new(BTreeMap::from([
        ("p-1", Proposal { title: "variable stars in M 33", observer: "obs-0017" }),
        ("p-2", Proposal { title: "a comet, wide", observer: "obs-0020" }),
    ]));
    let plan = AccessPlan::builder()
        .need("GET", "/proposals", "signed-in")
        .need("GET", "/proposals/{id}", "predicate own-proposal")
        .build()?;
    let issuer = TestIssuer::new();
    let rows = proposals.clone();
    let guard =
        issuer.guard::<NoOwn>(plan).predicate("own-proposal", move |caller: Caller, request: PredicateRequest| {
            let answer: PredicateAnswer<Answered> = Ok(own(&rows, &caller, &request));
            std::future::ready(answer)
        });
    let router = Router::new().route("/proposals", get(list)).route("/proposals/{id}", get(one)).with_state(proposals);
    let app = guard.build()?.router(router)?;
    for path in ["/proposals", "/proposals/p-1", "/proposals/p-2", "/proposals/p-9"] {
        let request = issuer.caller("obs-0017").request::<Body>("GET", path);
        let response = app.clone().oneshot(request).await?;
        let status = response.status();
        let body = axum::body::to_bytes(response.into_body(), 4096).await?;
        let said = if status.is_success() { String::from_utf8_lossy(&body).into_owned() } else { String::new() };
        println!("obs-0017 asks for {path:<16} {} {said}", status.as_u16());
    }
    Ok(())
}
