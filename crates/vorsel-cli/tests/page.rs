//! The page that `vorsel serve` has at `/`, in a headless Chromium, as somebody uses it.
#![cfg(unix)]

use serde_json::{Value, json};

#[path = "../../vorsel/tests/common/chromium.rs"]
mod chromium;
mod common;
#[path = "common/instance.rs"]
mod instance;
use chromium::{Chromium, Tab};
use instance::Instance;

const IS_IN: &str = "document.querySelector('.in:not([hidden])') !== null";
const IS_OUT: &str = "document.querySelector('.out:not([hidden])') !== null";
const IDLE: &str = "![...document.querySelectorAll('button')].some((button) => button.disabled)";

/// The page of a server of its own, opened.
struct Page {
    server: Instance,
    browser: Chromium,
    tab: Tab,
}

impl Page {
    async fn open(arguments: &[&str]) -> Option<Self> {
        let mut browser = Chromium::start().await?;
        let server = Instance::listening("127.0.0.1:0", arguments);
        let tab = browser.open(&format!("{}/", server.base)).await;
        browser.until(&tab, IS_OUT).await;
        Some(Self { server, browser, tab })
    }

    async fn run(&mut self, expression: &str) -> Value {
        self.browser.run(&self.tab, expression).await
    }

    async fn until(&mut self, expression: &str) {
        self.browser.until(&self.tab, expression).await;
    }

    async fn click(&mut self, id: &str) {
        self.run(&format!("document.getElementById('{id}').click(); 0")).await;
        self.until(IDLE).await;
    }

    async fn submit(&mut self, form: &str, password: &str) {
        let form = format!("document.getElementById('{form}')");
        self.run(&format!("{form}.elements.password.value = '{password}'; {form}.requestSubmit(); 0")).await;
        self.until(IDLE).await;
    }

    async fn sign_in(&mut self, subject: &str) {
        self.run(&format!("document.querySelector('[name=subject]').value = '{subject}'; 0")).await;
        self.submit("sign-in", &format!("hill-{subject}")).await;
        self.until(IS_IN).await;
    }

    /// What a route answers: status and words.
    async fn ask(&mut self, method: &str, path: &str) -> String {
        let line = format!(
            "[...document.querySelectorAll('#routes li')].find((line) => line.querySelector('.method').textContent === '{method}' \
             && line.querySelector('.path').textContent === '{path}')"
        );
        self.run(&format!("{line}.querySelector('.answer').hidden = true; {line}.querySelector('button').click(); 0"))
            .await;
        self.until(&format!("!{line}.querySelector('.answer').hidden")).await;
        self.run(&format!("{line}.querySelector('.answer').innerText")).await.as_str().unwrap_or_default().to_owned()
    }

    async fn texts(&mut self, selector: &str) -> Vec<String> {
        let all =
            self.run(&format!("[...document.querySelectorAll('{selector}')].map((found) => found.innerText)")).await;
        serde_json::from_value(all).expect("texts")
    }

    async fn news(&mut self) -> String {
        self.texts("#news").await.remove(0)
    }
}

#[tokio::test]
async fn somebody_signs_in_by_keyboard_and_sees_their_token_their_reach_and_why_a_route_refuses_them() {
    let Some(mut page) = Page::open(&[]).await else { return };
    let (browser, tab) = (&mut page.browser, page.tab.clone());
    for _ in 0..10 {
        if browser.run(&tab, "document.activeElement.name === 'password'").await == true {
            break;
        }
        browser.press(&tab, "Tab").await;
    }
    browser.type_text(&tab, "hill-obs-0018").await;
    browser.press(&tab, "Enter").await;
    browser.until(&tab, "document.getElementById('news').innerText === 'That is not the password.'").await;
    browser.until(&tab, IDLE).await;
    browser.type_text(&tab, "hill-obs-0017").await;
    browser.press(&tab, "Enter").await;
    browser.until(&tab, IS_IN).await;
    page.until(IDLE).await;

    let claims = page.texts("#claims").await.remove(0);
    for expected in ["obs-0017", "exposures:read exposures:queue logs:read", "expires in ", "signed in "] {
        assert!(claims.contains(expected), "{claims}");
    }
    let marks = page.texts("#findings .mark").await;
    assert!(marks.len() > 8 && marks.iter().all(|mark| mark == "✓"), "{marks:?}");
    let life = page.run("+document.getElementById('life').getAttribute('aria-valuenow')").await;
    assert!(life.as_f64().is_some_and(|left| left > 280.0 && left <= 300.0), "{life}");
    assert_eq!(
        page.run("document.documentElement.innerHTML.includes('eyJ')").await,
        false,
        "a token is nowhere to be seen"
    );

    let pale = page.texts("#routes .pale .path").await;
    assert!(pale.contains(&"/dome".to_owned()) && !pale.contains(&"/me".to_owned()), "{pale:?}");
    assert!(page.ask("GET", "/exposures").await.starts_with("200 "));
    let refused = page.ask("POST", "/dome").await;
    assert!(refused.starts_with("403 ") && refused.contains("scope: dome:move"), "{refused}");
    assert!(page.ask("GET", "/dome/live").await.starts_with("403 "));
    for width in [375, 1_280] {
        page.browser.size(&tab, width, 800).await;
        let needed = page.run("document.documentElement.scrollWidth").await;
        assert!(needed.as_u64().is_some_and(|needed| needed <= u64::from(width)), "{needed} of {width} px");
    }
    page.browser.reload(&tab).await;
    page.until(IS_IN).await;
}

#[tokio::test]
async fn sessions_are_renewed_replayed_listed_and_ended_on_the_page() {
    let Some(mut page) = Page::open(&["--retry-window", "1"]).await else { return };
    page.sign_in("obs-0017").await;
    let issued = "document.querySelector('#claims').innerText";
    let before = page.run(issued).await;
    page.click("renew").await;
    assert_eq!(page.news().await, "Renewed.");
    assert_ne!(page.run(issued).await, before, "another token");
    page.click("renew-twice").await;
    assert!(page.news().await.starts_with("200 and 200: both got the same"), "{}", page.news().await);

    page.submit("replay", "hill-obs-0017").await;
    page.until("document.querySelectorAll('#replay-steps li').length === 6").await;
    page.until(IDLE).await;
    assert_eq!(page.texts("#replay-steps .status").await, ["200", "200", "200", "400", "400", "401"]);
    assert_eq!(page.texts("#sessions li").await.len(), 1, "the replayed one is over");
    assert!(page.ask("GET", "/me").await.starts_with("200 "), "this one goes on");

    let desk = json!({ "subject": "obs-0017", "password": "hill-obs-0017", "device": "dome terminal" });
    for _ in 0..2 {
        let begun = page.server.client.post(format!("{}/sign-in", page.server.base)).json(&desk).send().await;
        assert_eq!(begun.expect("an answer").status(), 200, "without a client it is the desk's");
    }
    page.submit("again", "hill-obs-0017").await;
    assert_eq!(page.texts("#sessions li").await.len(), 3, "signing in again keeps the session");
    page.run("document.querySelector('#sessions button').click(); 0").await;
    page.until("document.querySelectorAll('#sessions li').length === 2").await;
    assert_eq!(page.news().await, "Ended: dome terminal, by desk.");
    page.click("end-others").await;
    assert_eq!(page.texts("#sessions li").await.len(), 1);

    page.click("out-here").await;
    page.until(IS_OUT).await;
    page.sign_in("dir-0001").await;
    let put = page.ask("PUT", "/people/obs-0017/roles").await;
    assert!(put.starts_with("200 "), "{put}");
    page.click("out-everywhere").await;
    page.until(IS_OUT).await;
    let tab = page.tab.clone();
    page.browser.reload(&tab).await;
    page.until(IS_OUT).await;
}

#[tokio::test]
async fn the_dome_is_watched_by_ticket_until_the_token_does_not_stand_any_more() {
    let Some(mut page) = Page::open(&["--access-lifetime", "4"]).await else { return };
    page.sign_in("ope-0002").await;
    let live = page.ask("GET", "/dome/live").await;
    assert!(live.starts_with("live {\"azimuth\":"), "{live}");
    page.until("[...document.querySelectorAll('.answer .status')].some((status) => status.textContent === 'over')")
        .await;
    // The session goes on: the next call renews it.
    assert!(page.ask("GET", "/dome").await.starts_with("200 "));
}

#[tokio::test]
async fn a_plan_that_leaves_the_page_out_is_served_without_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let demo = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/access.toml")).expect("a plan");
    let of_page = ["\"/\"", "/page/", "/me/reach", "/me/token", "/dome/live", "/oauth/sessions", "/oauth/ticket"];
    let is_api = |part: &&str| !of_page.iter().any(|path| part.contains(path));
    let without_page = demo.split("\n\n").filter(is_api).collect::<Vec<_>>().join("\n\n");
    for (text, status) in [(demo.as_str(), 200), (&without_page, 401)] {
        let plan = folder.path().join("access.toml");
        std::fs::write(&plan, text).expect("a file");
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_vorsel"));
        command.env("VORSEL_PLAN", &plan);
        let server = Instance::begun(command, std::process::Stdio::null(), "0.0.0.0:0", &[]);
        let here = server.base.replace("0.0.0.0", "127.0.0.1");
        let answer = server.client.get(format!("{here}/")).send().await.expect("an answer");
        assert_eq!(answer.status(), status);
    }
}

#[tokio::test]
async fn its_files_are_there_with_a_policy_and_no_others_are() {
    let server = Instance::listening("127.0.0.1:0", &[]);
    for (path, status) in
        [("/", 200), ("/page/style.css", 200), ("/page/session.js", 200), ("/page/x", 404), ("/page/..%2fmod.rs", 404)]
    {
        let answer = server.client.get(format!("{}{path}", server.base)).send().await.expect("an answer");
        assert_eq!(answer.status(), status, "{path}");
        if path == "/" {
            let policy = answer.headers()["content-security-policy"].to_str().expect("text");
            assert!(policy.contains("default-src 'none'") && policy.contains("frame-ancestors 'none'"), "{policy}");
        }
    }
}
