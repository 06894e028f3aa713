//! A headless Chromium, driven by its own protocol.
#![allow(dead_code, reason = "each test uses its part")]

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use futures_util::{SinkExt, StreamExt};
use serde_json::{Value, json};
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream, connect_async};

/// The browser; it ends with this.
pub(crate) struct Chromium {
    process: Child,
    _profile: tempfile::TempDir,
    socket: WebSocketStream<MaybeTlsStream<TcpStream>>,
    next: u64,
}

/// A tab, by its session with the browser.
#[derive(Clone)]
pub(crate) struct Tab(String);

impl Drop for Chromium {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

impl Chromium {
    /// Nothing if it is not installed, unless every test is asked for.
    pub(crate) async fn start() -> Option<Self> {
        let profile = tempfile::tempdir().expect("a folder");
        let process = Command::new("chromium")
            .args(["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-first-run"])
            .args(["--remote-debugging-port=0", "--disable-background-networking", "--disable-component-update"])
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .arg("about:blank")
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn();
        let mut process = match process {
            Ok(process) => process,
            Err(error) => {
                assert!(std::env::var_os("VORSEL_TEST_ALL").is_none(), "chromium does not start: {error}");
                eprintln!("skipped: chromium does not start: {error}");
                return None;
            }
        };
        let lines = BufReader::new(process.stderr.take().expect("standard error")).lines();
        let address = lines
            .map_while(Result::ok)
            .find_map(|line| line.split_once("DevTools listening on ").map(|(_, address)| address.trim().to_owned()));
        let (socket, _) = connect_async(address.expect("its address")).await.expect("a connection");
        Some(Self { process, _profile: profile, socket, next: 0 })
    }

    async fn call(&mut self, tab: Option<&Tab>, method: &str, params: Value) -> Value {
        self.answer(tab, method, params).await.unwrap_or_else(|error| panic!("{method}: {error}"))
    }

    /// What it answers, or the error it answers with.
    async fn answer(&mut self, tab: Option<&Tab>, method: &str, params: Value) -> Result<Value, Value> {
        self.next += 1;
        let mut message = json!({ "id": self.next, "method": method, "params": params });
        if let Some(Tab(session)) = tab {
            message["sessionId"] = session.as_str().into();
        }
        self.socket.send(Message::text(message.to_string())).await.expect("sent");
        loop {
            let late = std::time::Duration::from_secs(30);
            let next = tokio::time::timeout(late, self.socket.next()).await.expect("an answer in time");
            let Message::Text(text) = next.expect("a message").expect("a whole one") else { continue };
            let answer: Value = serde_json::from_str(&text).expect("JSON");
            if answer["id"] == self.next {
                return answer.get("error").map_or_else(|| Ok(answer["result"].clone()), |error| Err(error.clone()));
            }
        }
    }

    /// Opens an address in a new tab, and waits until it is there.
    pub(crate) async fn open(&mut self, address: &str) -> Tab {
        let target = self.call(None, "Target.createTarget", json!({ "url": "about:blank" })).await;
        let attach = json!({ "targetId": target["targetId"], "flatten": true });
        let session = self.call(None, "Target.attachToTarget", attach).await;
        let tab = Tab(session["sessionId"].as_str().expect("a session").to_owned());
        self.go(&tab, address).await;
        tab
    }

    /// Goes to an address.
    pub(crate) async fn go(&mut self, tab: &Tab, address: &str) {
        self.call(Some(tab), "Page.navigate", json!({ "url": address })).await;
        self.loaded(tab).await;
    }

    pub(crate) async fn reload(&mut self, tab: &Tab) {
        self.run(tab, "window.stale = true; 0").await;
        self.call(Some(tab), "Page.reload", json!({})).await;
        self.loaded(tab).await;
    }

    /// Waits for a page that is loaded, and is not the one of before a reload.
    pub(crate) async fn loaded(&mut self, tab: &Tab) {
        for _ in 0..300 {
            let ready = "document.readyState === 'complete' && !window.stale && location.href !== 'about:blank'";
            let evaluate = json!({ "expression": ready, "returnByValue": true });
            // A question to the page of before is answered with an error once that page is left.
            let answer = self.answer(Some(tab), "Runtime.evaluate", evaluate).await;
            if answer.is_ok_and(|answer| answer["result"]["value"] == true) {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        panic!("the page is not there");
    }

    /// Presses a key as somebody at a keyboard does.
    pub(crate) async fn press(&mut self, tab: &Tab, key: &str) {
        let (code, text) = match key {
            "Tab" => (9, ""),
            "Enter" => (13, "\r"),
            other => panic!("no such key: {other}"),
        };
        for kind in ["keyDown", "keyUp"] {
            let text = if kind == "keyDown" { text } else { "" };
            let event = json!({ "type": kind, "key": key, "code": key, "windowsVirtualKeyCode": code, "text": text });
            self.call(Some(tab), "Input.dispatchKeyEvent", event).await;
        }
    }

    /// Types into what has the focus.
    pub(crate) async fn type_text(&mut self, tab: &Tab, text: &str) {
        self.call(Some(tab), "Input.insertText", json!({ "text": text })).await;
    }

    /// A window of this size.
    pub(crate) async fn size(&mut self, tab: &Tab, width: u32, height: u32) {
        let size = json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": false });
        self.call(Some(tab), "Emulation.setDeviceMetricsOverride", size).await;
    }

    /// Waits until an expression holds.
    pub(crate) async fn until(&mut self, tab: &Tab, expression: &str) {
        for _ in 0..1_000 {
            if self.run(tab, expression).await == true {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        panic!("never: {expression}; the page says {}", self.run(tab, "document.body.innerText").await);
    }

    /// The value of a cookie, which no script can read; nothing if there is none.
    pub(crate) async fn cookie(&mut self, name: &str) -> String {
        let all = self.call(None, "Storage.getCookies", json!({})).await;
        let found = all["cookies"].as_array().and_then(|all| all.iter().find(|cookie| cookie["name"] == name));
        found.and_then(|cookie| cookie["value"].as_str()).unwrap_or_default().to_owned()
    }

    /// What an expression comes to, once its promise is kept.
    pub(crate) async fn run(&mut self, tab: &Tab, expression: &str) -> Value {
        let evaluate = json!({ "expression": expression, "awaitPromise": true, "returnByValue": true });
        let answer = self.call(Some(tab), "Runtime.evaluate", evaluate).await;
        assert!(answer.get("exceptionDetails").is_none(), "{expression}: {answer}");
        answer["result"]["value"].clone()
    }
}
