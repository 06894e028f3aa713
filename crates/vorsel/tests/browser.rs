//! Sessions of pages over real HTTP: cookies that are set, used and cleared, and only for pages of the app's own.

use std::sync::Arc;

use http::header::SET_COOKIE;
use serde_json::json;
use vorsel::SignIn;
use vorsel::endpoints::{Browser, Endpoints, Known, PasswordSignIn};
use vorsel::store::{MemoryStore, SessionStore};
use vorsel::{NoOwn, hash_password};

mod common;
#[path = "common/wire.rs"]
mod wire;
use common::{Entry, House, WINDOW, house};
use wire::{Answer, Wire};

const OWN: &str = "https://hill.skarnhill.test";
const DESK: &str = "https://desk.skarnhill.test";
const HERE: [(&str, &str); 1] = [("sec-fetch-site", "same-origin")];

async fn set_up(change: impl FnOnce(Browser) -> Browser) -> (House, Wire) {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let hash = hash_password("hill").expect("a hash");
    let sign_in = PasswordSignIn::new(move |typed: String| {
        let known = (typed == "wren").then(|| Known::new("obs-0017", &hash).member("nickname", "Wren"));
        async { Ok(known) }
    });
    let browser = change(Browser::new(OWN, ["page"]).origin(DESK));
    let set = |endpoints: Endpoints<NoOwn>| endpoints.sign_in(sign_in).browser(browser);
    let wire = Wire::endpoints(&house, set).await;
    (house, wire)
}

impl Wire {
    async fn send_as_page(&self, path: &str, headers: &[(&str, &str)], form: &[(&str, &str)]) -> Answer {
        let request = self.http.post(self.at(path)).form(form);
        self.send(headers.iter().fold(request, |request, (name, value)| request.header(*name, *value))).await
    }

    async fn sign_in(&self, headers: &[(&str, &str)], client: &str) -> Answer {
        let form = [("client_id", client), ("subject", "wren"), ("password", "hill")];
        self.send_as_page("/oauth/sign-in", headers, &form).await
    }

    /// Renews by a cookie.
    async fn renew(&self, cookie: &str, form: &[(&str, &str)]) -> Answer {
        let form = [&[("grant_type", "refresh_token"), ("client_id", "page")], form].concat();
        self.send_as_page("/oauth/token", &[HERE[0], ("cookie", cookie)], &form).await
    }
}

/// The cookies that are set, each with its attributes.
fn cookies(answer: &Answer) -> Vec<String> {
    answer.headers.get_all(SET_COOKIE).iter().map(|value| value.to_str().expect("text").to_owned()).collect()
}

/// The cookie as a browser sends it back.
fn pair(answer: &Answer, name: &str) -> String {
    let all = cookies(answer);
    let cookie = all.iter().find(|cookie| cookie.starts_with(&format!("{name}="))).unwrap_or_else(|| panic!("{all:?}"));
    cookie.split(';').next().expect("a pair").to_owned()
}

#[tokio::test]
async fn a_page_signs_in_renews_and_signs_out_by_cookies_alone() {
    let (house, wire) = set_up(|browser| browser).await;
    let signed_in = wire.sign_in(&HERE, "page").await;
    assert_eq!(signed_in.status, 200);
    assert_eq!((signed_in.text("nickname").as_str(), &signed_in.body["refresh_token"]), ("Wren", &json!(null)));
    house.verifier().check(signed_in.text("access_token"), house.now()).expect("an accepted token");
    let [refresh, device] = &cookies(&signed_in)[..] else { panic!("{signed_in:?}") };
    assert!(refresh.starts_with("__Secure-refresh=ey"), "{refresh}");
    assert!(refresh.ends_with("; Path=/oauth; Max-Age=1209600; HttpOnly; Secure; SameSite=Strict"), "{refresh}");
    assert!(device.starts_with("__Host-device=") && device.contains("; Path=/; "), "{device}");

    let first = pair(&signed_in, "__Secure-refresh");
    let renewed = wire.renew(&first, &[]).await;
    let second = pair(&renewed, "__Secure-refresh");
    assert!(
        first != second && !renewed.text("access_token").is_empty() && renewed.body["refresh_token"] == json!(null)
    );
    // A second tab, or a lost reply.
    assert_eq!(pair(&wire.renew(&first, &[]).await, "__Secure-refresh"), second);

    let out = wire.send_as_page("/oauth/revoke", &[HERE[0], ("cookie", &second)], &[("client_id", "page")]).await;
    assert_eq!((out.status, cookies(&out).len()), (200, 1));
    assert!(cookies(&out)[0].starts_with("__Secure-refresh=; Path=/oauth; Max-Age=0; "), "{:?}", cookies(&out));
    let over = wire.renew(&second, &[]).await;
    assert_eq!((over.error(), cookies(&over).len()), ("invalid_grant", 1), "cleared");
}

#[tokio::test]
async fn another_client_of_the_same_endpoints_has_its_token_in_the_body() {
    let (_, wire) = set_up(|browser| browser).await;
    let signed_in = wire.sign_in(&[], "desk").await;
    assert_eq!((signed_in.status, cookies(&signed_in).len()), (200, 0));
    let token = signed_in.text("refresh_token");
    let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", token.as_str())];
    assert_eq!(wire.post("/oauth/token", &form).await.status, 200);
}

#[tokio::test]
async fn nobody_but_pages_of_the_own_origins_can_use_a_cookie_or_have_one_set() {
    let (_, wire) = set_up(|browser| browser).await;
    let signed_in = wire.sign_in(&HERE, "page").await;
    let cookie = pair(&signed_in, "__Secure-refresh");
    for (headers, passes) in [
        (vec![], false),
        (vec![("sec-fetch-site", "same-origin")], true),
        (vec![("sec-fetch-site", "none")], true),
        (vec![("sec-fetch-site", "same-site")], false),
        (vec![("sec-fetch-site", "cross-site")], false),
        (vec![("sec-fetch-site", "same-site"), ("origin", DESK)], true),
        (vec![("sec-fetch-site", "cross-site"), ("origin", "https://elsewhere.test")], false),
        (vec![("origin", OWN)], true),
        (vec![("origin", DESK)], true),
        (vec![("origin", "https://elsewhere.test")], false),
        (vec![("origin", "null")], false),
    ] {
        let sent = [headers.clone(), vec![("cookie", cookie.as_str())]].concat();
        let renewal = [("grant_type", "refresh_token"), ("client_id", "page")];
        let out = [("client_id", "page"), ("token", "x")];
        for (path, form) in [("/oauth/token", &renewal), ("/oauth/revoke", &out)] {
            let answer = wire.send_as_page(path, &sent, form).await;
            let expected = if !passes {
                403
            } else if path == "/oauth/token" {
                200
            } else {
                400
            };
            assert_eq!(answer.status, expected, "{path} {headers:?}");
            assert!(passes || cookies(&answer).is_empty(), "never cleared with 403");
        }
        let signed_in = wire.sign_in(&headers, "page").await;
        assert_eq!(signed_in.status == 200, passes, "a sign-in that sets a cookie: {headers:?}");
    }
}

#[tokio::test]
async fn cookies_are_cleared_when_the_session_is_over_and_at_no_other_time() {
    let (house, wire) = set_up(Browser::access_cookie).await;
    let signed_in = wire.sign_in(&HERE, "page").await;
    assert_eq!(signed_in.body.get("access_token"), None, "it is in a cookie");
    let access = pair(&signed_in, "__Host-access");
    assert!(access.starts_with("__Host-access=ey"));
    let first = pair(&signed_in, "__Secure-refresh");
    let second = pair(&wire.renew(&first, &[]).await, "__Secure-refresh");

    let token = second.split_once('=').expect("a value").1.to_owned();
    let same = wire.renew(&second, &[("refresh_token", token.as_str())]).await;
    assert_eq!(same.status, 200, "the same in cookie and form");
    let third = pair(&same, "__Secure-refresh");
    let differ = wire.renew(&third, &[("refresh_token", token.as_str())]).await;
    assert_eq!((differ.status, differ.error(), cookies(&differ).len()), (400, "invalid_request", 0));
    let twice = wire.renew(&format!("{third}; {third}"), &[]).await;
    assert_eq!((twice.error(), cookies(&twice).len()), ("invalid_request", 0));
    let scope = wire.renew(&third, &[("scope", "dome:move")]).await;
    assert_eq!((scope.error(), cookies(&scope).len()), ("invalid_scope", 0));
    house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Unavailable);
    let down = wire.renew(&third, &[]).await;
    assert_eq!((down.status, cookies(&down).len()), (503, 0));
    house.book.0.lock().expect("no panic").insert("obs-0017".to_owned(), Entry::Roles(vec![]));

    house.clock.advance(WINDOW);
    let replay = wire.renew(&first, &[]).await;
    let cleared = cookies(&replay);
    assert_eq!((replay.error(), cleared.len()), ("invalid_grant", 2), "{cleared:?}");
    assert!(cleared.iter().all(|cookie| cookie.contains("=; ") && cookie.contains("Max-Age=0")), "{cleared:?}");
    assert_eq!(wire.renew(&third, &[]).await.error(), "invalid_grant", "the replay has ended it");
}

#[tokio::test]
async fn a_session_that_another_client_began_is_none_of_a_page() {
    let (house, wire) = set_up(|browser| browser).await;
    let token = house.sessions.start(SignIn::new("obs-0017", "desk")).await.expect("a session").refresh_token;
    let answer = wire.renew(&format!("__Secure-refresh={token}"), &[]).await;
    assert_eq!((answer.error(), cookies(&answer).len()), ("invalid_grant", 0));
}

#[tokio::test]
async fn in_development_cookies_go_over_plain_http_on_this_machine() {
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let local = Browser::new("http://localhost:8080", ["page"]).origin("http://localhost:5173");
    let browser = local.danger_http_on_this_machine();
    assert_eq!((browser.refresh_cookie_name(), browser.access_cookie_name()), ("refresh", "access"));
    let wire = Wire::endpoints(&house, |endpoints| endpoints.browser(browser)).await;
    let token = house.sessions.start(SignIn::new("obs-0017", "page")).await.expect("a session").refresh_token;
    let headers =
        [("sec-fetch-site", "same-site"), ("origin", "http://localhost:5173"), ("cookie", &format!("refresh={token}"))];
    let form = [("grant_type", "refresh_token"), ("client_id", "page")];
    let renewed = wire.send_as_page("/oauth/token", &headers, &form).await;
    assert!(cookies(&renewed)[0].ends_with("; Path=/; Max-Age=1209600; HttpOnly; SameSite=Strict"), "{renewed:?}");
}

#[tokio::test]
async fn listed_origins_get_cors_with_credentials_and_no_other_does() {
    let browser = Browser::new(OWN, ["page"]).origin(DESK);
    let store: Arc<dyn SessionStore> = Arc::new(MemoryStore::new());
    let house = house(&store);
    let cors = browser.cors();
    let wire = Wire::serve(|base| {
        let routes = Endpoints::new(house.sessions.clone(), base).browser(browser).routes().expect("endpoints");
        routes.into_unguarded_router().layer(cors)
    });
    let wire = wire.await;
    for (origin, is_listed) in [(DESK, true), (OWN, true), ("https://elsewhere.test", false), ("null", false)] {
        let preflight = wire.http.request(http::Method::OPTIONS, wire.at("/oauth/token")).header("origin", origin);
        let preflight = wire.send(preflight.header("access-control-request-method", "POST")).await;
        let plain = wire.send(wire.http.post(wire.at("/oauth/token")).header("origin", origin)).await;
        for answer in [&preflight, &plain] {
            let allowed = if is_listed { origin } else { "" };
            assert_eq!(answer.header("access-control-allow-origin"), allowed, "{origin}");
            let varies = answer
                .headers
                .get_all("vary")
                .iter()
                .any(|value| value.to_str().is_ok_and(|vary| vary.contains("origin")));
            assert!(varies, "{origin}: {:?}", answer.headers);
        }
        assert_eq!(preflight.header("access-control-allow-credentials"), "true");
        assert!(preflight.header("access-control-allow-methods").contains("POST"));
    }
}
