//! Rows that are not the caller's: told of, hidden, or handed to the handler, and looked up once.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use axum::body::{Body, to_bytes};
use axum::extract::Path;
use axum::routing::get;
use http::Request;
use tower::ServiceExt;
use vorsel::testing::{TestCaller, TestIssuer};
use vorsel::{AccessPlan, Answered, Caller, GuardedApp, PredicateAnswer, PredicateRequest, Routes};

#[derive(Clone)]
struct Proposal {
    by: &'static str,
}

const PROPOSALS: [(&str, Proposal); 2] = [("p-1", Proposal { by: "obs-0017" }), ("p-2", Proposal { by: "obs-0042" })];

fn find(id: Option<&str>) -> Option<Proposal> {
    PROPOSALS.into_iter().find(|(known, _)| Some(*known) == id).map(|(_, proposal)| proposal)
}

async fn read(caller: Caller) -> String {
    caller.loaded::<Proposal>().map_or("looked up here".to_owned(), |proposal| format!("by {}", proposal.by))
}

fn app(issuer: &TestIssuer, asked: Arc<AtomicUsize>) -> GuardedApp {
    let plan = AccessPlan::builder()
        .role("director", &[])
        .predicates(&["reads", "wrote"])
        .need("GET", "/proposals/{id}", "role director or predicate reads")
        .need("GET", "/told/{id}", "predicate wrote")
        .need("GET", "/fresh/{id}", "predicate reads and signed-in within 10m")
        .need("GET", "/either/{id}", "predicate reads or signed-in within 10m and role director")
        .need("GET", "/not/{id}", "not predicate reads")
        .build()
        .expect("a plan");
    let reads = move |caller: Caller, request: PredicateRequest| {
        asked.fetch_add(1, Ordering::Relaxed);
        async move {
            Ok(match find(request.path("id")) {
                Some(proposal) if proposal.by == caller.subject() => Answered::yes().with(proposal),
                _ => Answered::hidden(),
            })
        }
    };
    async fn wrote(caller: Caller, request: PredicateRequest) -> PredicateAnswer {
        Ok(find(request.path("id")).is_some_and(|proposal| proposal.by == caller.subject()))
    }
    let guard = issuer.guard(plan).predicate("reads", reads).predicate("wrote", wrote).build().expect("a guard");
    let echo = async |Path(_): Path<String>, caller: Caller| read(caller).await;
    let routes = ["/proposals/{id}", "/told/{id}", "/fresh/{id}", "/either/{id}", "/not/{id}"];
    let routes = routes.into_iter().fold(Routes::new(), |routes, path| routes.route(path, get(echo)));
    routes.guard(guard).expect("the routes of the plan")
}

async fn ask(app: &GuardedApp, path: &str, caller: Option<&TestCaller<'_>>) -> (u16, String) {
    let mut request = Request::get(path);
    if let Some(caller) = caller {
        request = request.header("authorization", format!("Bearer {}", caller.token()));
    }
    let answer = app.clone().oneshot(request.body(Body::empty()).expect("a request")).await.expect("an answer");
    let status = answer.status().as_u16();
    let body = to_bytes(answer.into_body(), 10_000).await.expect("a body");
    (status, String::from_utf8(body.to_vec()).expect("text"))
}

#[tokio::test]
async fn what_is_not_the_caller_s_is_not_there_and_what_is_was_looked_up_once() {
    let (issuer, asked) = (TestIssuer::new(), Arc::new(AtomicUsize::new(0)));
    let app = app(&issuer, asked.clone());
    let owner = issuer.caller("obs-0017");
    let director = issuer.caller("dir-0001").role("director");
    let an_hour = Duration::from_secs(3_600);
    let [stale_owner, stale_director] = [&owner, &director].map(|caller| caller.clone().signed_in_ago(an_hour));
    let [owner, director] = [owner, director].map(|caller| caller.signed_in_ago(Duration::from_secs(1)));
    let (_, nothing) = ask(&app, "/no-such-path", Some(&owner)).await;
    assert!(nothing.contains("There is nothing at this path."), "{nothing}");
    for (path, caller, status, body, asks) in [
        ("/proposals/p-1", Some(&owner), 200, Some("by obs-0017"), 1),
        // Somebody else's, and what is not there, are the same to the last byte.
        ("/proposals/p-2", Some(&owner), 404, Some(nothing.as_str()), 1),
        ("/proposals/p-9", Some(&owner), 404, Some(nothing.as_str()), 1),
        ("/proposals/p-2", Some(&director), 200, Some("looked up here"), 0),
        ("/proposals/p-2", None, 401, None, 0),
        ("/told/p-1", Some(&owner), 200, Some("looked up here"), 0),
        ("/told/p-2", Some(&owner), 403, None, 0),
        // What a fresh sign-in would help is told, of what is not there as well.
        ("/fresh/p-1", Some(&stale_owner), 401, None, 1),
        ("/fresh/p-2", Some(&stale_owner), 404, Some(nothing.as_str()), 1),
        ("/either/p-2", Some(&stale_director), 401, None, 1),
        ("/either/p-9", Some(&stale_director), 401, None, 1),
        ("/either/p-9", Some(&director), 200, Some("looked up here"), 1),
        ("/not/p-9", Some(&owner), 200, Some("looked up here"), 1),
        ("/not/p-1", Some(&owner), 403, None, 1),
    ] {
        let before = asked.load(Ordering::Relaxed);
        let answer = ask(&app, path, caller).await;
        assert_eq!(answer.0, status, "{path}: {answer:?}");
        assert!(body.is_none_or(|body| body == answer.1), "{path}: {answer:?}");
        let times = asked.load(Ordering::Relaxed) - before;
        assert!(times <= asks, "{path}: looked up {times} times");
    }
}
