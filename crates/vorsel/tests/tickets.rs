//! Tickets for sockets and event sources: good once, for half a minute, for one path, at whatever instance; and never more than the token
//! that they stand for.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::routing::get;
use http::Request;
use vorsel::endpoints::{Browser, Endpoints};
use vorsel::store::{MemoryStore, SessionStore, Which};
use vorsel::{AccessPlan, Guard, LiveRevocations, NoOwn, Routes, SignIn, TicketError, Tickets, TokenReply, WhenSilent};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{House, house};
use wire::Wire;

struct Hill {
    house: House,
    store: Arc<dyn SessionStore>,
    view: LiveRevocations,
    guard: Guard,
    tickets: Tickets,
}

/// Another instance on the same store.
fn guard(house: &House, view: &LiveRevocations, tickets: &Tickets) -> Guard {
    let plan = AccessPlan::builder().role("observer", &[]).role("operator", &[]);
    let plan = plan.need("GET", "/live", "role observer").need("GET", "/other", "signed-in");
    let plan = plan.need("POST", "/live", "signed-in").need("GET", "/operators", "role operator");
    let plan = plan.need("GET", "/sockets", "credential ticket").need("GET", "/no-sockets", "not credential ticket");
    let plan = plan.need("POST", "/oauth/ticket", "signed-in").open("GET", "/open");
    let endpoints = Endpoints::new(house.sessions.clone(), "https://id.skarnhill.test").tickets(tickets.clone());
    let to_open = endpoints.to_open().expect("endpoints");
    let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build().expect("a plan");
    let guard = Guard::<NoOwn>::builder(house.verifier(), plan).clock(house.clock.clone());
    let guard = guard.revocations(view.clone(), Duration::from_secs(10), WhenSilent::GoOn).cookie("access");
    guard.tickets("ticket", tickets.clone()).build().expect("a guard")
}

async fn hill() -> Hill {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
    let house = house.set_up(|sessions| sessions.revocations(view.clone()));
    let tickets = Tickets::new(store.clone());
    let guard = guard(&house, &view, &tickets);
    Hill { house, store, view, guard, tickets }
}

impl Hill {
    async fn sign_in(&self) -> TokenReply {
        self.house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session")
    }

    async fn ticket(&self, token: &str, path: &str) -> String {
        self.tickets.ticket(token, path, self.house.now()).await.expect("a ticket")
    }
}

/// Who gets in, or the code of why nobody does and the status.
async fn said(guard: &Guard, method: &str, uri: &str, header: Option<(&str, &str)>) -> String {
    let mut request = Request::builder().method(method).uri(uri);
    if let Some((name, value)) = header {
        request = request.header(name, value);
    }
    let decided = guard.decide(&request.body(()).expect("a request"), guard.now()).await;
    match decided {
        Ok(Some(caller)) => {
            let kinds: Vec<_> = caller.credentials().iter().map(vorsel::Credential::name).collect();
            format!("{} by {}", caller.subject(), kinds.join(" and "))
        }
        Ok(None) => "nobody".to_owned(),
        Err(stop) => format!("{} {}", stop.answer("x").status, stop.code()),
    }
}

#[tokio::test]
async fn a_ticket_is_good_once_for_half_a_minute_and_for_one_path() {
    let hill = hill().await;
    let token = hill.sign_in().await.access_token;
    let at = |path: &str, ticket: &str| format!("{path}?since=1&ticket={ticket}");
    for (made_for, method, path, later, expected) in [
        ("/live", "GET", "/live", 0, "obs-0017 by ticket"),
        ("/live", "GET", "/live", 30, "obs-0017 by ticket"),
        ("/live", "GET", "/live", 31, "401 bad-ticket"),
        ("/live", "GET", "/other", 0, "401 bad-ticket"),
        ("/other", "GET", "/other", 0, "obs-0017 by ticket"),
        ("/live", "POST", "/live", 0, "401 no-credential"),
        ("/operators", "GET", "/operators", 0, "403 rule-not-met"),
        ("/sockets", "GET", "/sockets", 0, "obs-0017 by ticket"),
        ("/no-sockets", "GET", "/no-sockets", 0, "403 rule-not-met"),
        ("/open", "GET", "/open", 0, "obs-0017 by ticket"),
        ("/open", "GET", "/open", 31, "nobody"),
    ] {
        let ticket = hill.ticket(&token, made_for).await;
        hill.house.clock.advance(Duration::from_secs(later));
        assert_eq!(said(&hill.guard, method, &at(path, &ticket), None).await, expected, "{method} {path} {later}");
        if expected.contains("by ticket") && path != "/open" {
            assert_eq!(said(&hill.guard, method, &at(path, &ticket), None).await, "401 bad-ticket", "used: {path}");
        }
    }
}

#[tokio::test]
async fn of_many_instances_one_takes_a_ticket() {
    let hill = hill().await;
    let token = hill.sign_in().await.access_token;
    let uri = format!("/live?ticket={}", hill.ticket(&token, "/live").await);
    let instances = (0..20).map(|_| guard(&hill.house, &hill.view, &Tickets::new(hill.store.clone())));
    let answers = futures_util::future::join_all(instances.map(|guard| {
        let uri = uri.clone();
        async move { said(&guard, "GET", &uri, None).await }
    }));
    let answers = answers.await;
    assert_eq!(answers.iter().filter(|answer| *answer == "obs-0017 by ticket").count(), 1, "{answers:?}");
    assert!(answers.iter().all(|answer| answer == "obs-0017 by ticket" || answer == "401 bad-ticket"));
}

#[tokio::test]
async fn a_ticket_is_worth_no_more_than_its_token() {
    let hill = hill().await;
    let reply = hill.sign_in().await;
    let ticket = hill.ticket(&reply.access_token, "/live").await;
    let live = |ticket: &str| format!("/live?ticket={ticket}");
    let caller = hill.sign_in().await;
    // With another credential of the same caller it may come, with one of another not.
    let bearer = format!("Bearer {}", caller.access_token);
    let also = hill.ticket(&caller.access_token, "/live").await;
    let both = said(&hill.guard, "GET", &live(&also), Some(("authorization", &bearer))).await;
    assert_eq!(both, "obs-0017 by bearer and ticket");
    let guard = &hill.guard;
    let session =
        guard.decide(&request_with(&reply.access_token), guard.now()).await.expect("let in").expect("a caller");
    let session = session.token_claims().session_id().expect("a session").to_owned();
    hill.house.sessions.end(Which::One(&session)).await.expect("ended");
    assert_eq!(said(guard, "GET", &live(&ticket), None).await, "401 revoked");
    let refresh = hill.ticket(&caller.refresh_token, "/live").await;
    assert!(said(guard, "GET", &live(&refresh), None).await.starts_with("401 "), "a refresh token is none");
    let nonsense = hill.ticket("nonsense", "/live").await;
    assert_eq!(said(guard, "GET", &live(&nonsense), None).await, "401 malformed");
}

fn request_with(token: &str) -> Request<()> {
    Request::get("/other").header("authorization", format!("Bearer {token}")).body(()).expect("a request")
}

#[tokio::test]
async fn what_was_not_made_here_is_no_ticket_and_shows_nothing_of_the_token() {
    let hill = hill().await;
    let token = hill.sign_in().await.access_token;
    let ticket = hill.ticket(&token, "/live").await;
    assert!(
        !ticket.contains(&token[..40])
            && ticket.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
    );
    assert_ne!(hill.ticket(&token, "/live").await, ticket);
    let elsewhere = Tickets::new(Arc::new(MemoryStore::new()));
    let foreign = elsewhere.ticket(&token, "/live", hill.house.now()).await.expect("a ticket");
    let mut wrong: BTreeSet<String> = ["", "x", "====", &token, &foreign, &"A".repeat(9_000)].map(str::to_owned).into();
    for at in (0..ticket.len()).step_by(7) {
        let mut changed = ticket.clone().into_bytes();
        changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
        wrong.insert(String::from_utf8(changed).expect("text"));
        wrong.insert(ticket[..at].to_owned());
    }
    for wrong in wrong {
        assert_eq!(said(&hill.guard, "GET", &format!("/live?ticket={wrong}"), None).await, "401 bad-ticket", "{wrong}");
    }
    assert_eq!(said(&hill.guard, "GET", &format!("/live?ticket={ticket}"), None).await, "obs-0017 by ticket");
    for path in ["", "live", "/live?x=1", "/a b", "/live#x", "/\"", &format!("/{}", "x".repeat(1_024))] {
        let made = hill.tickets.ticket(&token, path, hill.house.now()).await;
        assert!(matches!(made, Err(TicketError::Path)), "{path:?}");
    }
    let large = hill.tickets.ticket(&"x".repeat(4_097), "/live", hill.house.now()).await;
    assert!(matches!(large, Err(TicketError::Token { found: 4_097 })));
    let largest = hill.ticket(&"x".repeat(4_096), &format!("/{}", "x".repeat(1_023))).await;
    assert_eq!(
        said(&hill.guard, "GET", &format!("/live?ticket={largest}"), None).await,
        "401 bad-ticket",
        "for another path"
    );
}

#[tokio::test]
async fn a_page_gets_a_ticket_by_its_header_or_its_cookie() {
    let hill = hill().await;
    let token = hill.sign_in().await.access_token;
    let endpoints = |base: &str| {
        let browser = Browser::new(base, ["page"]).access_cookie().danger_http_on_this_machine();
        Endpoints::new(hill.house.sessions.clone(), base).tickets(hill.tickets.clone()).browser(browser)
    };
    let wire = Wire::serve(|base| {
        let routes =
            Routes::new().route("/live", get(async || "moving").post(async || "")).route("/open", get(async || ""));
        let routes = ["/other", "/operators", "/sockets", "/no-sockets"]
            .iter()
            .fold(routes, |routes, path| routes.route(path, get(async || "")));
        let app = routes.merge(endpoints(base).routes().expect("endpoints")).guard(hill.guard.clone()).expect("an app");
        Router::new().fallback_service(app)
    });
    let wire = wire.await;
    let form = [("path", "/live")];
    let bearer = format!("Bearer {token}");
    let (by_header, by_cookie) = (("authorization", bearer.as_str()), format!("access={token}"));
    for (header, form, status) in [
        (by_header, &form[..], 200),
        (by_header, &[][..], 400),
        (by_header, &[("path", "live")][..], 400),
        (("x-none", "1"), &form[..], 401),
        (("cookie", by_cookie.as_str()), &form[..], 403),
    ] {
        let answer = wire.post_with("/oauth/ticket", header, form).await;
        assert_eq!(answer.status, status, "{header:?} {form:?} {}", answer.body);
    }
    let request = wire.http.post(wire.at("/oauth/ticket")).form(&form).header("cookie", by_cookie);
    for answer in [
        wire.post_with("/oauth/ticket", by_header, &form).await,
        wire.send(request.header("sec-fetch-site", "same-origin")).await,
    ] {
        assert_eq!((answer.header("cache-control"), &answer.body["expires_in"]), ("no-store", &serde_json::json!(30)));
        let live = format!("/live?ticket={}", answer.text("ticket"));
        let first = wire.get(&live).await;
        assert_eq!((first.status, first.header("cache-control")), (200, "private"));
        let second = wire.get(&live).await;
        assert_eq!(
            (second.status, second.header("www-authenticate")),
            (401, "Bearer realm=\"https://api.skarnhill.test\"")
        );
    }
}
