//! `vorsel serve` as a process, and a client of it.
#![allow(dead_code, reason = "each test uses its part")]

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use reqwest::{Client, Method};
use serde_json::{Value, json};

/// A server process; killed when it is dropped, so that no test leaves one behind.
pub(crate) struct Instance {
    child: Child,
    pub(crate) base: String,
    pub(crate) client: Client,
}

/// What a client made of an answer.
pub(crate) type Answer = Result<(u16, Value), reqwest::Error>;

impl Instance {
    pub(crate) fn listening(address: &str, arguments: &[&str]) -> Self {
        let log = if std::env::var_os("VORSEL_TEST_LOG").is_some() { Stdio::inherit() } else { Stdio::null() };
        Self::logging_to(log, address, arguments)
    }

    pub(crate) fn logging_to(log: Stdio, address: &str, arguments: &[&str]) -> Self {
        Self::begun(Command::new(env!("CARGO_BIN_EXE_vorsel")), log, address, arguments)
    }

    /// One that this command starts.
    pub(crate) fn begun(mut command: Command, log: Stdio, address: &str, arguments: &[&str]) -> Self {
        let mut child = command
            .args(["serve", "--listen", address])
            .args(arguments)
            .env_remove("VORSEL_KEYS_FOLDER")
            .stdout(Stdio::piped())
            .stderr(log)
            .spawn()
            .expect("the server starts");
        let mut line = String::new();
        BufReader::new(child.stdout.take().expect("standard output")).read_line(&mut line).expect("its line");
        let base = line.trim().strip_prefix("listening on ").unwrap_or_else(|| panic!("{line:?}")).to_owned();
        let client = Client::builder().no_proxy().timeout(Duration::from_secs(30)).build().expect("a client");
        Self { child, base, client }
    }

    pub(crate) fn base(&self) -> &str {
        &self.base
    }

    /// Its process.
    pub(crate) fn id(&self) -> u32 {
        self.child.id()
    }

    /// Where it listens.
    pub(crate) fn address(&self) -> &str {
        self.base.trim_start_matches("http://")
    }

    pub(crate) fn caller(&self) -> Caller {
        Caller { base: self.base.clone(), client: self.client.clone() }
    }

    /// Asks the server to stop and waits until it has.
    pub(crate) fn stop(&mut self) -> Option<i32> {
        let asked = Command::new("kill").args(["-TERM", &self.child.id().to_string()]).status().expect("kill runs");
        assert!(asked.success());
        self.child.wait().expect("the server ends").code()
    }

    /// Kills the process as a crash does.
    pub(crate) fn kill(&mut self) {
        self.child.kill().expect("kill");
        self.child.wait().expect("the end");
    }
}

impl Drop for Instance {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A client of one instance.
#[derive(Clone)]
pub(crate) struct Caller {
    base: String,
    client: Client,
}

impl Caller {
    async fn answer(request: reqwest::RequestBuilder) -> Answer {
        let response = request.send().await?;
        let status = response.status().as_u16();
        Ok((status, serde_json::from_slice(&response.bytes().await?).unwrap_or(Value::Null)))
    }

    /// Signs in; the access token and the refresh token.
    pub(crate) async fn sign_in(&self, subject: &str) -> (String, String) {
        let body = json!({ "client_id": "desk", "subject": subject, "password": format!("hill-{subject}") });
        let late = Instant::now() + Duration::from_secs(60);
        let (status, reply) = loop {
            let answer = Self::answer(self.client.post(format!("{}/sign-in", self.base)).json(&body)).await;
            match answer.expect("an answer") {
                // A store that is slow on a busy machine.
                (503, _) if Instant::now() < late => tokio::time::sleep(Duration::from_millis(100)).await,
                answer => break answer,
            }
        };
        assert_eq!(status, 200, "{reply}");
        let text = |name: &str| reply[name].as_str().expect("a token").to_owned();
        (text("access_token"), text("refresh_token"))
    }

    pub(crate) async fn renew(&self, refresh_token: &str) -> Answer {
        let form = [("grant_type", "refresh_token"), ("client_id", "desk"), ("refresh_token", refresh_token)];
        Self::answer(self.client.post(format!("{}/oauth/token", self.base)).form(&form)).await
    }

    pub(crate) async fn revoke(&self, token: &str) -> Answer {
        Self::answer(
            self.client.post(format!("{}/oauth/revoke", self.base)).form(&[("client_id", "desk"), ("token", token)]),
        )
        .await
    }

    /// The status of a request with an access token.
    pub(crate) async fn status(&self, method: Method, path: &str, token: &str) -> Result<u16, reqwest::Error> {
        let request = self.client.request(method, format!("{}{path}", self.base)).bearer_auth(token);
        Self::answer(request).await.map(|(status, _)| status)
    }
}
