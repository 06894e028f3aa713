//! The app of `examples/app_with_sign_in.rs`, driven as a browser would.

use axum::Router;
use serde_json::json;

#[path = "../../../examples/app_with_sign_in.rs"]
#[allow(dead_code, unreachable_pub, reason = "the example's own main is not called, and it stands alone there")]
mod app;
#[path = "common/mod.rs"]
mod common;
#[path = "common/wire.rs"]
mod wire;
use wire::{Answer, Wire};

/// Sends what a page of the app's own would.
async fn page(wire: &Wire, path: &str, cookie: &str, form: &[(&str, &str)]) -> Answer {
    let request = wire.http.post(wire.at(path)).header("sec-fetch-site", "same-origin").header("cookie", cookie);
    wire.send(request.form(&[form, &[("client_id", "page")]].concat())).await
}

fn cookie(answer: &Answer) -> String {
    answer.header("set-cookie").split(';').next().unwrap_or_default().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_app_of_a_newcomer_signs_in_renews_guards_and_signs_out() {
    assert!(include_str!("../../../examples/app_with_sign_in.rs").lines().count() < 80, "that is the promise");
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    let app = app::app(&base).await.expect("an app");
    tokio::spawn(async move {
        axum::serve(listener, app.into_make_service_with_connect_info::<std::net::SocketAddr>()).await
    });
    let mut wire = Wire::serve(|_| Router::new()).await;
    wire.base = base;

    let call = async |method: &str, path: &str, token: &str| {
        let request = wire.http.request(method.parse().expect("a method"), wire.at(path));
        wire.send(request.bearer_auth(token)).await.status
    };
    assert_eq!(wire.get("/dome").await.status, 401);
    let wrong = page(&wire, "/oauth/sign-in", "", &[("subject", "ope-0002"), ("password", "x")]).await;
    assert_eq!((wrong.status, wrong.body), (400, json!({ "error": "invalid_grant" })));
    let signed_in = page(&wire, "/oauth/sign-in", "", &[("subject", "ope-0002"), ("password", "hill-ope-0002")]).await;
    let first = signed_in.text("access_token");
    for (method, path) in [("GET", "/me"), ("GET", "/dome"), ("POST", "/dome")] {
        assert_eq!(call(method, path, &first).await, 200, "{method} {path}");
    }
    let renewed = page(&wire, "/oauth/token", &cookie(&signed_in), &[("grant_type", "refresh_token")]).await;
    let second = renewed.text("access_token");
    assert_eq!(call("GET", "/me", &second).await, 200);
    let out = page(&wire, "/oauth/revoke", &cookie(&renewed), &[]).await;
    assert_eq!((out.status, cookie(&out).as_str()), (200, "refresh="));
    for token in [first, second] {
        assert_eq!(call("GET", "/me", &token).await, 401, "the session's tokens do not stand any more");
    }
    let over = page(&wire, "/oauth/token", &cookie(&renewed), &[("grant_type", "refresh_token")]).await;
    assert_eq!(over.text("error"), "invalid_grant");
}
