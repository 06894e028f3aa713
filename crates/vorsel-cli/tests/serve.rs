//! `vorsel serve` as a script uses it: found by its one line, driven over HTTP, several on one store, stopped by SIGTERM.
#![cfg(unix)]

use std::path::Path;
use std::time::Duration;

use reqwest::{Client, Method};
use serde_json::{Value, json};

mod common;
#[path = "common/instance.rs"]
mod instance;
use instance::Instance;

/// A server process and its client.
struct Server {
    process: Instance,
    base: String,
    client: Client,
}

impl Server {
    fn start(arguments: &[&str]) -> Self {
        let process = Instance::listening("127.0.0.1:0", arguments);
        Self { base: process.base.clone(), client: process.client.clone(), process }
    }

    /// One of several that share a store and keys.
    fn on(folder: &Path, more: &[&str]) -> Self {
        let store = format!("sqlite:{}", folder.join("sessions.sqlite").display());
        let keys = folder.join("keys").display().to_string();
        Self::start(&[&["--store", &store, "--keys", &keys], more].concat())
    }

    async fn answer(&self, request: reqwest::RequestBuilder) -> (u16, Value) {
        let response = request.send().await.expect("an answer");
        let status = response.status().as_u16();
        (status, serde_json::from_slice(&response.bytes().await.expect("a body")).unwrap_or(Value::Null))
    }

    async fn sign_in(&self, subject: &str, password: &str) -> (u16, Value) {
        let body = json!({ "client_id": "desk", "subject": subject, "password": password });
        self.answer(self.client.post(format!("{}/sign-in", self.base)).json(&body)).await
    }

    async fn tokens(&self, subject: &str) -> (String, String) {
        let (status, reply) = self.sign_in(subject, &format!("hill-{subject}")).await;
        assert_eq!((status, &reply["token_type"]), (200, &json!("Bearer")));
        let text = |name: &str| reply[name].as_str().expect("a token").to_owned();
        (text("access_token"), text("refresh_token"))
    }

    async fn call(&self, method: Method, path: &str, token: &str) -> u16 {
        let request = self.client.request(method, format!("{}{path}", self.base));
        self.answer(if token.is_empty() { request } else { request.bearer_auth(token) }).await.0
    }

    async fn metadata(&self, name: &str) -> String {
        let request = self.client.get(format!("{}/.well-known/oauth-authorization-server", self.base));
        self.answer(request).await.1[name].as_str().expect("an address").to_owned()
    }

    async fn renew(&self, refresh_token: &str) -> (u16, Value) {
        let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", refresh_token)];
        self.answer(self.client.post(self.metadata("token_endpoint").await).form(&form)).await
    }
}

#[tokio::test]
async fn the_demo_people_reach_what_the_plan_says() {
    let mut server = Server::start(&["--store", "memory:"]);
    let people = ["vis-0003", "obs-0017", "ope-0002", "dir-0001"];
    let mut tokens = vec![String::new()];
    for person in people {
        tokens.push(server.tokens(person).await.0);
    }
    for (method, path, statuses) in [
        (Method::GET, "/health", [200; 5]),
        (Method::GET, "/exposures", [401, 200, 200, 200, 200]),
        (Method::POST, "/exposures", [401, 403, 201, 201, 201]),
        (Method::GET, "/exposures/exp-101", [401, 200, 200, 200, 200]),
        (Method::GET, "/exposures/none", [401, 404, 404, 404, 404]),
        (Method::GET, "/dome", [401, 403, 403, 200, 200]),
        (Method::POST, "/dome", [401, 403, 403, 200, 200]),
        (Method::GET, "/night-log", [401, 403, 200, 200, 200]),
        (Method::GET, "/me", [401, 200, 200, 200, 200]),
        (Method::POST, "/night-log", [401, 403, 201, 201, 201]),
        (Method::DELETE, "/exposures/exp-101", [401, 403, 200, 403, 200]),
        (Method::DELETE, "/exposures/exp-102", [401, 403, 403, 200, 200]),
        // A sign-in by password never is one by a hardware key, and no person is an instrument.
        (Method::POST, "/dome/override", [401, 403, 403, 401, 401]),
        (Method::POST, "/weather", [401, 403, 403, 403, 403]),
        (Method::GET, "/observers/obs-0017/proposals", [401, 403, 200, 403, 200]),
        (Method::GET, "/people/obs-0017/roles", [401, 403, 403, 403, 200]),
        (Method::GET, "/cellar", [401, 404, 404, 404, 404]),
        (Method::PATCH, "/dome", [401, 403, 403, 405, 405]),
    ] {
        for (token, status) in tokens.iter().zip(statuses) {
            assert_eq!(server.call(method.clone(), path, token).await, status, "{method} {path}");
        }
    }
    for (subject, password) in [("obs-0017", "hill-obs-0020"), ("nobody", "hill-nobody")] {
        assert_eq!(server.sign_in(subject, password).await, (400, json!({ "error": "invalid_grant" })));
    }
    let broken = server.client.post(format!("{}/sign-in", server.base)).body("{");
    let (status, answer) = server.answer(broken).await;
    assert_eq!((status, &answer["error"]), (400, &json!("invalid_request")));
    let keys = server.answer(server.client.get(server.metadata("jwks_uri").await)).await.1;
    assert!(keys["keys"][0].get("d").is_none() && keys["keys"][0]["kty"] == "OKP", "{keys}");
    assert_eq!(server.process.stop(), Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn several_servers_on_one_store_act_as_one() {
    let folder = tempfile::tempdir().expect("a folder");
    let servers = [Server::on(folder.path(), &[]), Server::on(folder.path(), &[])];
    let (access, _) = servers[0].tokens("obs-0017").await;
    assert_eq!(servers[1].call(Method::GET, "/exposures", &access).await, 200);

    let (_, token) = servers[0].tokens("ope-0002").await;
    let form = [("client_id", "desk"), ("token", token.as_str())];
    let sign_out = servers[1].client.post(servers[1].metadata("revocation_endpoint").await).form(&form);
    assert_eq!(servers[1].answer(sign_out).await.0, 200);
    assert_eq!(servers[0].renew(&token).await.0, 400);
}

/// The secret stands in demo/clients.toml beside its hash.
const ARCHIVE: (&str, &str) = ("archive", "aarOfyCLgl0cepfsi_doHjYM7H71jY8HGr0Xu0NEsfc");

#[tokio::test(flavor = "multi_thread")]
async fn explain_fetches_the_keys_of_an_issuer_that_is_named_and_sends_no_token() {
    let base = format!("http://{}", free_address());
    let address = base.trim_start_matches("http://").to_owned();
    let process = Instance::listening(&address, &["--store", "memory:", "--issuer", &base]);
    let server = Server { base: process.base.clone(), client: process.client.clone(), process };
    let (token, _) = server.tokens("obs-0017").await;
    let explain = |arguments: &[&str], variable: Option<&str>| {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_vorsel"));
        command.args([&["explain", "--json", &token], arguments].concat()).env_remove("VORSEL_KEYS_FOLDER");
        match variable {
            Some(issuer) => command.env("VORSEL_ISSUER", issuer),
            None => command.env_remove("VORSEL_ISSUER"),
        };
        let output = command.output().expect("an answer");
        let said: Value = serde_json::from_slice(&output.stdout).expect("JSON");
        (said["accepted"] == true, said["refused_for"].clone(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    assert_eq!(explain(&["--issuer", &base], None), (true, json!([]), String::new()));
    let (accepted, refused_for, _) = explain(&[], Some(&base));
    assert!(
        !accepted && refused_for == json!(["unknown-key"]),
        "the variable alone has nothing fetched: {refused_for}"
    );
    let (accepted, _, said) = explain(&["--issuer", "http://127.0.0.1:9"], None);
    assert!(!accepted && said.contains("can't be had"), "{said}");
}

/// One that nobody listens on for now.
fn free_address() -> std::net::SocketAddr {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address")
}

#[tokio::test]
async fn the_archive_has_tokens_of_its_own_and_asks_what_others_are_worth() {
    let server = Server::start(&["--store", "memory:"]);
    let post = async |name: &str, form: &[(&str, &str)]| {
        let request = server.client.post(server.metadata(name).await).basic_auth(ARCHIVE.0, Some(ARCHIVE.1));
        server.answer(request.form(form)).await
    };
    let form = [("grant_type", "client_credentials"), ("scope", "exposures:read")];
    let (status, reply) = post("token_endpoint", &form).await;
    assert_eq!(status, 200, "{reply}");
    let own = reply["access_token"].as_str().expect("a token");
    assert_eq!(server.call(Method::GET, "/exposures", own).await, 200);
    assert_eq!(server.call(Method::GET, "/night-log", own).await, 403);
    let (access, refresh) = server.tokens("obs-0017").await;
    for (token, is_active) in [(access.as_str(), true), (&refresh, true), ("nonsense", false)] {
        let (status, said) = post("introspection_endpoint", &[("token", token)]).await;
        assert_eq!((status, &said["active"]), (200, &json!(is_active)), "{said}");
    }
}

#[tokio::test]
async fn a_sign_in_that_names_no_client_is_the_desk_s_and_failures_are_counted_unless_told_otherwise() {
    for (throttle, last) in [("on", 429), ("off", 400)] {
        let server = Server::start(&["--store", "memory:", "--throttle", throttle]);
        let attempt = async |subject: &str, password: &str| {
            let body = json!({ "subject": subject, "password": password });
            server.answer(server.client.post(format!("{}/sign-in", server.base)).json(&body)).await
        };
        let (status, reply) = attempt("obs-0017", "hill-obs-0017").await;
        assert_eq!(status, 200, "{reply}");
        assert_eq!(server.renew(reply["refresh_token"].as_str().expect("a token")).await.0, 200);
        let mut statuses = Vec::new();
        for _ in 0..30 {
            statuses.push(attempt("dir-0001", "wrong").await.0);
        }
        assert_eq!((statuses[0], statuses[29]), (400, last), "{throttle}: {statuses:?}");
    }
}

/// The key stands in demo/people.toml beside its hash.
const INSTRUMENT_KEY: &str = "eLz9iWFtNdRJgGCTdF_KAymcj2onylwhI9i_Gc25OnI";

#[tokio::test]
async fn an_instrument_comes_with_its_key() {
    let server = Server::start(&["--store", "memory:"]);
    for (key, status) in [(INSTRUMENT_KEY, 201), ("some-other-key", 401)] {
        let request = server.client.post(format!("{}/weather", server.base)).header("X-Instrument-Key", key);
        assert_eq!(server.answer(request).await.0, status);
    }
    let people = include_str!("../../../demo/people.toml");
    assert!(people.contains(&vorsel::ApiKeyHash::of(INSTRUMENT_KEY).to_string()));
}

/// A role that is given takes effect at the next renewal, not before.
#[tokio::test]
async fn a_role_given_counts_from_the_next_renewal_on() {
    let server = Server::start(&["--store", "memory:"]);
    let (observer, refresh) = server.tokens("obs-0017").await;
    let (director, _) = server.tokens("dir-0001").await;
    assert_eq!(server.call(Method::GET, "/dome", &observer).await, 403);
    let give = |person: &str, roles: Value, token: &str| {
        let request = server.client.put(format!("{}/people/{person}/roles", server.base)).json(&roles);
        server.answer(request.bearer_auth(token.to_owned()))
    };
    assert_eq!(give("obs-0017", json!(["operator"]), &observer).await.0, 403);
    assert_eq!(give("dir-0001", json!(["director"]), &director).await.0, 403, "nobody changes their own");
    assert_eq!(give("obs-0017", json!(["operator"]), &director).await.0, 200);
    assert_eq!(server.call(Method::GET, "/dome", &observer).await, 403);
    let renewed = server.renew(&refresh).await.1["access_token"].as_str().expect("a token").to_owned();
    assert_eq!(server.call(Method::GET, "/dome", &renewed).await, 200);
}

#[tokio::test]
async fn an_access_token_ends_with_its_lifetime_to_the_second() {
    let server = Server::start(&["--access-lifetime", "4"]);
    let (access, refresh) = server.tokens("obs-0017").await;
    assert_eq!(server.call(Method::GET, "/exposures", &access).await, 200);
    tokio::time::sleep(Duration::from_millis(4_050)).await;
    assert_eq!(server.call(Method::GET, "/exposures", &access).await, 401);
    let (status, reply) = server.renew(&refresh).await;
    assert_eq!((status, &reply["expires_in"]), (200, &json!(4)));
    let renewed = reply["access_token"].as_str().expect("a token");
    assert_eq!(server.call(Method::GET, "/exposures", renewed).await, 200);
}

#[tokio::test]
async fn sessions_and_keys_outlive_a_server_that_is_killed() {
    let folder = tempfile::tempdir().expect("a folder");
    let server = Server::on(folder.path(), &[]);
    let (access, refresh) = server.tokens("obs-0017").await;
    let (_, renewed) = server.renew(&refresh).await;
    drop(server);
    let server = Server::on(folder.path(), &[]);
    assert_eq!(server.call(Method::GET, "/exposures", &access).await, 200);
    let (status, again) = server.renew(&refresh).await;
    assert_eq!((status, &again["refresh_token"]), (200, &renewed["refresh_token"]), "the reply may have been lost");

    let keys = folder.path().join("keys").display().to_string();
    let mut issue = vec!["issue", "--keys", &keys, "--subject", "dir-0001", "--role", "director"];
    issue.extend(["--claim", "training=5"]);
    let issued = common::vorsel(&issue);
    assert_eq!(server.call(Method::GET, "/dome", issued.out.trim()).await, 200, "a token from the desk");
    let explained = common::vorsel_with(&["explain", "--keys", &keys, "--kind", "refresh"], refresh.as_bytes());
    assert_eq!(explained.status, 0, "{explained:?}");
}

/// The keys are rolled and then found to be leaked while two instances run: nobody is signed out by the first, everything
/// signed before is refused after the second.
#[tokio::test]
async fn keys_are_rolled_and_withdrawn_under_running_instances() {
    let folder = tempfile::tempdir().expect("a folder");
    let [one, other] = [Server::on(folder.path(), &[]), Server::on(folder.path(), &[])];
    let keys = folder.path().join("keys").display().to_string();
    let published = async |server: &Server| {
        let set = server.answer(server.client.get(server.metadata("jwks_uri").await)).await.1;
        let ids =
            set["keys"].as_array().expect("keys").iter().map(|key| key["kid"].as_str().expect("an ID").to_owned());
        ids.collect::<Vec<_>>()
    };
    let (access, refresh) = one.tokens("obs-0017").await;
    let first = published(&one).await.remove(0);
    assert_eq!(common::vorsel(&["keys", "roll", "--keys", &keys]).status, 0);
    assert_eq!(common::vorsel(&["keys", "roll", "--keys", &keys, "--for", "refresh"]).status, 0);
    for server in [&one, &other] {
        eventually("the new key is published", async || published(server).await.len() == 2).await;
        assert_eq!(server.call(Method::GET, "/exposures", &access).await, 200);
    }
    let (status, reply) = other.renew(&refresh).await;
    assert_eq!(status, 200, "{reply}");

    assert_eq!(common::vorsel(&["keys", "compromise", "--keys", &keys, &first]).status, 0);
    for server in [&one, &other] {
        let refused = async || server.call(Method::GET, "/exposures", &access).await == 401;
        eventually("the leaked key's token is refused", refused).await;
        assert!(!published(server).await.contains(&first));
    }
    let (status, reply) = one.renew(reply["refresh_token"].as_str().expect("a token")).await;
    assert_eq!(status, 200, "the session goes on with a new key: {reply}");
    assert_eq!(other.call(Method::GET, "/exposures", reply["access_token"].as_str().expect("a token")).await, 200);
}

/// The pipe holds 64 KB, so the log gets stuck after some hundred lines.
#[tokio::test]
async fn nobody_waits_for_whoever_does_not_read_the_log() {
    let mut process = Instance::logging_to(std::process::Stdio::piped(), "127.0.0.1:0", &[]);
    let (client, address) = (process.client.clone(), format!("{}/exposures/{}", process.base, "x".repeat(200)));
    for number in 0..1_000 {
        let answer = tokio::time::timeout(Duration::from_secs(10), client.get(&address).send()).await;
        let answer = answer.unwrap_or_else(|_| panic!("request {number} waits")).expect("an answer");
        assert_eq!(answer.status().as_u16(), 401);
    }
    assert_eq!(process.stop(), Some(0));
}

async fn eventually(what: &str, holds: impl AsyncFn() -> bool) {
    let start = std::time::Instant::now();
    while !holds().await {
        assert!(start.elapsed() < Duration::from_secs(20), "{what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
