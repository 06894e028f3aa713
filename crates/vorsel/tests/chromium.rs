//! Pages in a real browser: sessions in cookies, by the client module that is meant to be copied.

use std::net::SocketAddr;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use axum::Router;
use axum::extract::Request;
use axum::middleware::{Next, from_fn};
use axum::response::{Html, IntoResponse, Response};
use axum::routing::get;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use vorsel::endpoints::{Browser, Endpoints, Known, PasswordSignIn};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{
    AccessPlan, Caller, Guard, LiveRevocations, NoOwn, RenewError, RenewalRequest, Routes, WhenSilent, hash_password,
};

#[path = "common/chromium.rs"]
mod browser;
mod common;
use browser::{Chromium, Tab};
use common::{House, WINDOW, house};

/// What the tests do to the wire.
#[derive(Default)]
struct Wire {
    renewals: AtomicU32,
    /// Renewals whose reply is lost on the way.
    lose: AtomicU32,
    /// What a foreign page had answered.
    statuses: Mutex<Vec<u16>>,
}

struct Site {
    house: House,
    wire: Arc<Wire>,
    /// The app, and pages of a listed origin and of an unlisted one, which is another site.
    own: String,
    listed: String,
    foreign: String,
}

const PAGE: &str = r#"<!doctype html><title>Hill</title><script type="module">
import { Session } from "/session.js";
const api = new URLSearchParams(location.search).get("api") ?? "";
window.session = new Session({ client: "page", token: api + "/oauth/token", revoke: api + "/oauth/revoke" });
window.me = async () => { const answer = await session.fetch(api + "/me"); return answer.ok ? answer.text() : answer.status; };
window.signIn = async () => {
  const body = new URLSearchParams({ client_id: "page", subject: "wren", password: "hill" });
  const answer = await fetch(api + "/oauth/sign-in", { method: "POST", body, credentials: "include" });
  if (answer.ok) session.began(await answer.json());
  return answer.status;
};
window.ready = true;
</script>"#;

async fn port() -> (TcpListener, u16) {
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let port = listener.local_addr().expect("an address").port();
    (listener, port)
}

fn pages() -> Router {
    let script = include_str!("../../../examples/browser/session.js");
    let script = ([("content-type", "text/javascript")], script);
    Router::new().route("/", get(async || Html(PAGE))).route("/session.js", get(async move || script))
}

async fn meddle(wire: Arc<Wire>, request: Request, next: Next) -> Response {
    let is_renewal = request.uri().path() == "/oauth/token" && request.method() == "POST";
    let response = next.run(request).await;
    if !is_renewal {
        return response;
    }
    wire.renewals.fetch_add(1, Ordering::Relaxed);
    wire.statuses.lock().expect("no panic").push(response.status().as_u16());
    let lost = wire.lose.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1)).is_ok();
    // What the browser gets of it is neither a body nor a cookie.
    if lost { (http::StatusCode::BAD_GATEWAY, "").into_response() } else { response }
}

impl Site {
    async fn open(change: impl FnOnce(Browser) -> Browser) -> Self {
        let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
        let house = house(&store);
        let view = LiveRevocations::follow_by(store.clone(), house.clock.clone()).await.expect("a view");
        let house = house.set_up(|sessions| sessions.revocations(view.clone()));
        let [(own_listener, own), (listed_listener, listed), (foreign_listener, foreign)] =
            [port().await, port().await, port().await];
        let [own, listed] = [own, listed].map(|port| format!("http://127.0.0.1:{port}"));
        // Another host is another site, whatever machine it is.
        let foreign = format!("http://localhost:{foreign}");
        let hash = hash_password("hill").expect("a hash");
        let sign_in = PasswordSignIn::new(move |typed: String| {
            let known = (typed == "wren").then(|| Known::new("obs-0017", &hash));
            async { Ok(known) }
        });
        let browser = Browser::new(&own, ["page"]).origin(&listed).danger_http_on_this_machine();
        let cors = browser.cors();
        let endpoints = Endpoints::new(house.sessions.clone(), &own).sign_in(sign_in).browser(change(browser));
        let plan = AccessPlan::builder().need("GET", "/me", "signed-in").need("GET", "/live", "signed-in");
        let plan = plan.open("GET", "/").open("GET", "/session.js");
        let to_open = endpoints.to_open().expect("endpoints");
        let plan = to_open.iter().fold(plan, |plan, (method, path)| plan.open(method, path)).build().expect("a plan");
        let guard = Guard::<NoOwn>::builder(house.verifier(), plan).clock(house.clock.clone());
        let guard = guard.cookie("access").own_origin(&own);
        let guard = guard.revocations(view, Duration::from_secs(600), WhenSilent::GoOn).build().expect("a guard");
        let live = async |_: Caller, upgrade: axum::extract::ws::WebSocketUpgrade| upgrade.on_upgrade(async |_| {});
        let routes = Routes::new().route("/live", get(live)).router(pages());
        let routes = routes.route("/me", get(async |caller: Caller| caller.subject().to_owned()));
        let app = routes.merge(endpoints.routes().expect("endpoints")).guard(guard).expect("an app");
        let wire = Arc::new(Wire::default());
        let meddling = wire.clone();
        let app = Router::new().fallback_service(app).layer(cors);
        let app = app.layer(from_fn(move |request, next| meddle(meddling.clone(), request, next)));
        for (listener, router) in [(own_listener, app), (listed_listener, pages()), (foreign_listener, pages())] {
            let router = router.into_make_service_with_connect_info::<SocketAddr>();
            tokio::spawn(async move { axum::serve(listener, router).await });
        }
        Self { house, wire, own, listed, foreign }
    }

    fn renewals(&self) -> u32 {
        self.wire.renewals.swap(0, Ordering::Relaxed)
    }
}

async fn open(chromium: &mut Chromium, address: &str) -> Tab {
    let tab = chromium.open(address).await;
    ready(chromium, &tab).await;
    tab
}

async fn ready(chromium: &mut Chromium, tab: &Tab) {
    let waits = "new Promise(done => { const look = () => window.ready ? done(0) : setTimeout(look, 10); look(); })";
    chromium.run(tab, waits).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_keeps_its_session_over_reloads_tabs_and_lost_replies_and_asks_no_more_than_it_has_to() {
    let Some(mut chromium) = Chromium::start().await else { return };
    let site = Site::open(|browser| browser).await;
    let tab = open(&mut chromium, &site.own).await;
    let chromium = &mut chromium;

    // Signed out: one renewal tells so, however often is asked.
    for _ in 0..5 {
        assert_eq!(chromium.run(&tab, "me()").await, json!(401));
    }
    assert_eq!(site.renewals(), 1, "signed out");

    assert_eq!(chromium.run(&tab, "signIn()").await, json!(200));
    assert_eq!(chromium.run(&tab, "me()").await, json!("obs-0017"));
    assert_eq!(chromium.run(&tab, "document.cookie").await, json!(""), "no script sees it");
    assert_eq!(site.renewals(), 0, "signed in");

    chromium.reload(&tab).await;
    ready(chromium, &tab).await;
    let all = "Promise.all(Array.from({ length: 20 }, () => me())).then(all => all.every(one => one === 'obs-0017'))";
    assert_eq!(chromium.run(&tab, all).await, json!(true));
    assert_eq!(site.renewals(), 1, "after a reload, one for twenty calls");

    // The access token has expired: one renewal for all calls again, and one retry of each.
    site.house.clock.advance(Duration::from_secs(320));
    assert_eq!(chromium.run(&tab, all).await, json!(true));
    assert_eq!(site.renewals(), 1, "after it expired");

    // A second tab takes its turn, and both go on.
    let other = open(chromium, &site.own).await;
    let both = [(&tab, "session.renew()"), (&other, "session.renew()")];
    for (tab, _) in both {
        chromium.run(tab, "window.renewing = Promise.all([session.renew(), session.renew()]); 0").await;
    }
    for (tab, _) in both {
        assert_eq!(chromium.run(tab, "window.renewing").await, json!([true, true]));
        assert_eq!(chromium.run(tab, "me()").await, json!("obs-0017"));
    }
    assert_eq!(site.renewals(), 2, "one a tab");

    // The reply to a renewal is lost: the next one, with the token of before, gets the same successor.
    site.wire.lose.store(1, Ordering::Relaxed);
    let failed = chromium.run(&tab, "session.renew().then(() => 'renewed', error => error.message)").await;
    assert_eq!(failed, json!("the session can't be renewed now: 502"));
    assert_eq!(chromium.run(&tab, "session.renew()").await, json!(true));
    assert_eq!(chromium.run(&tab, "me()").await, json!("obs-0017"));
    assert_eq!(site.renewals(), 2, "the lost one and another");

    // Signed out in one tab, the other finds out at its next renewal, and neither asks on.
    assert_eq!(chromium.run(&tab, "session.end()").await, json!(true));
    for tab in [&tab, &other] {
        for _ in 0..3 {
            assert_eq!(chromium.run(tab, "me()").await, json!(401));
        }
    }
    assert_eq!(site.renewals(), 1, "of the other tab alone");

    // The back button brings the page, not the session.
    chromium.go(&tab, &format!("{}/?again", site.own)).await;
    chromium.run(&tab, "window.stale = true; history.back(); 0").await;
    chromium.loaded(&tab).await;
    ready(chromium, &tab).await;
    assert_eq!(chromium.run(&tab, "me()").await, json!(401));
    assert!(site.renewals() <= 1, "after going back");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_that_is_over_leaves_no_cookie_and_no_loop() {
    let Some(mut chromium) = Chromium::start().await else { return };
    let site = Site::open(|browser| browser).await;
    let tab = open(&mut chromium, &site.own).await;
    for over in ["expired", "replayed", "ended"] {
        assert_eq!(chromium.run(&tab, "signIn()").await, json!(200));
        match over {
            "expired" => site.house.clock.advance(Duration::from_secs(91 * 86_400)),
            "replayed" => {
                let stolen = chromium.cookie("refresh").await;
                assert_eq!(chromium.run(&tab, "session.renew()").await, json!(true));
                site.house.clock.advance(WINDOW);
                let request = RenewalRequest { client_id: Some("page"), scopes: None };
                assert!(matches!(site.house.sessions.renew(&stolen, request).await, Err(RenewError::Replay { .. })));
            }
            _ => drop(site.house.sessions.end(vorsel::store::Which::OfSubject("obs-0017")).await.expect("an end")),
        }
        site.renewals();
        for _ in 0..3 {
            assert_eq!(chromium.run(&tab, "me()").await, json!(401), "{over}");
        }
        assert_eq!(site.renewals(), 1, "{over}");
        chromium.reload(&tab).await;
        ready(&mut chromium, &tab).await;
        assert_eq!(chromium.run(&tab, "me()").await, json!(401), "{over}");
        assert_eq!(site.renewals(), 1, "{over}: after a reload");
        assert_eq!(chromium.cookie("refresh").await, "", "{over}: cleared");
    }
    // The store stands still, or the wire does: what may pass is no end of the session.
    assert_eq!(chromium.run(&tab, "signIn()").await, json!(200));
    chromium.reload(&tab).await;
    ready(&mut chromium, &tab).await;
    site.renewals();
    site.wire.lose.store(2, Ordering::Relaxed);
    for _ in 0..2 {
        assert_eq!(chromium.run(&tab, "me().catch(() => 'not now')").await, json!("not now"));
    }
    assert_eq!(chromium.run(&tab, "me()").await, json!("obs-0017"));
    assert_eq!(site.renewals(), 3, "one a call, no loop");
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_listed_origins_use_the_session_and_foreign_ones_do_not() {
    let Some(mut chromium) = Chromium::start().await else { return };
    let site = Site::open(|browser| browser).await;
    let tab = open(&mut chromium, &site.own).await;
    assert_eq!(chromium.run(&tab, "signIn()").await, json!(200));
    let of = |page: &str| format!("{page}/?api={}", site.own);

    let listed = open(&mut chromium, &of(&site.listed)).await;
    assert_eq!(chromium.run(&listed, "session.renew()").await, json!(true), "the same site, another port");
    assert_eq!(chromium.run(&listed, "me()").await, json!("obs-0017"));
    assert_eq!(chromium.run(&listed, "signIn()").await, json!(200));

    let foreign = open(&mut chromium, &of(&site.foreign)).await;
    site.wire.statuses.lock().expect("no panic").clear();
    for attack in [
        "session.renew().then(() => 'in', () => 'out')",
        "me().then(() => 'in', () => 'out')",
        "signIn().then(status => status === 200 ? 'in' : 'out', () => 'out')",
    ] {
        assert_eq!(chromium.run(&foreign, attack).await, json!("out"), "{attack}");
    }
    // A form needs no CORS; it has neither the cookie nor the right.
    let form = format!(
        "const form = Object.assign(document.createElement('form'), {{ method: 'post', action: '{}/oauth/token' }}); \
         for (const [name, value] of [['grant_type', 'refresh_token'], ['client_id', 'page']]) \
         form.append(Object.assign(document.createElement('input'), {{ name, value }})); \
         document.body.append(form); form.submit(); 0",
        site.own
    );
    chromium.run(&foreign, &form).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    let statuses = site.wire.statuses.lock().expect("no panic").clone();
    assert!(!statuses.is_empty() && statuses.iter().all(|status| *status == 403), "{statuses:?}");
    assert_eq!(chromium.run(&tab, "session.renew()").await, json!(true), "the session is as it was");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foreign_page_opens_no_web_socket_by_the_cookie() {
    let Some(mut chromium) = Chromium::start().await else { return };
    let site = Site::open(Browser::access_cookie).await;
    let tab = open(&mut chromium, &site.own).await;
    let signed_in = "fetch('/oauth/sign-in', { method: 'POST', body: new URLSearchParams({ client_id: 'page', subject: \
                     'wren', password: 'hill' }) }).then(answer => answer.json()).then(answer => answer.access_token ?? 'in a cookie')";
    assert_eq!(chromium.run(&tab, signed_in).await, json!("in a cookie"));
    let live = format!(
        "new Promise(done => {{ const socket = new WebSocket('{}/live'); socket.onopen = () => done('open'); \
         socket.onerror = () => done('refused'); }})",
        site.own.replace("http", "ws")
    );
    assert_eq!(chromium.run(&tab, &live).await, json!("open"));
    let foreign = open(&mut chromium, &site.foreign).await;
    assert_eq!(chromium.run(&foreign, &live).await, json!("refused"));
    let _: Value = chromium.run(&tab, "0").await;
}
