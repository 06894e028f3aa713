//! What a whole request asked for is carried out, whoever hangs up: every kind of write that a client can ask for.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use reqwest::Method;
use serde_json::Value;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::time::sleep;

use crate::instance::{Caller, Instance};
use crate::{Outcome, Site};

/// How long the last byte of a request is out before its sender is gone.
const DELAYS: [u64; 5] = [0, 1, 3, 5, 10];
/// Later than the usual retry window, so that a spent token is a replay.
const AFTER_THE_WINDOW: Duration = Duration::from_secs(11);
/// By then it is carried out, and a renewal's token still gets the answer that was made.
const CARRIED_OUT_WITHIN: Duration = Duration::from_secs(3);

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    SignOut,
    Renewal,
    Replay,
    RevokedToken,
    EndOfOwnSession,
}

const ALL: [What; 5] = [What::SignOut, What::Renewal, What::Replay, What::RevokedToken, What::EndOfOwnSession];

/// A session as its client has it.
struct Held {
    access: String,
    refresh: String,
    /// The token after that, where there is one.
    next: Option<String>,
}

impl What {
    const fn name(self) -> &'static str {
        match self {
            Self::SignOut => "sign-outs",
            Self::Renewal => "renewals",
            Self::Replay => "replays",
            Self::RevokedToken => "revoked access tokens",
            Self::EndOfOwnSession => "ends of an own session",
        }
    }

    fn request(self, held: &Held) -> String {
        let Held { access, refresh, .. } = held;
        let form = |path: &str, body: String| {
            let (kind, length) = ("Content-Type: application/x-www-form-urlencoded", body.len());
            format!("POST {path} HTTP/1.1\r\nHost: hill\r\n{kind}\r\nContent-Length: {length}\r\n\r\n{body}")
        };
        match self {
            Self::SignOut => form("/oauth/revoke", format!("token={refresh}&client_id=desk")),
            Self::RevokedToken => form("/oauth/revoke", format!("token={access}&client_id=desk")),
            Self::Renewal | Self::Replay => {
                form("/oauth/token", format!("grant_type=refresh_token&refresh_token={refresh}&client_id=desk"))
            }
            Self::EndOfOwnSession => {
                let session = claims(access)["sid"].as_str().expect("a session").to_owned();
                format!(
                    "DELETE /oauth/sessions/{session} HTTP/1.1\r\nHost: hill\r\nAuthorization: Bearer {access}\r\n\r\n"
                )
            }
        }
    }

    /// Whether what was asked for at a moment has been carried out since.
    async fn is_carried_out(self, caller: &Caller, held: &Held) -> bool {
        match self {
            Self::SignOut | Self::EndOfOwnSession => is_refused(caller, &held.refresh).await,
            Self::Replay => is_refused(caller, held.next.as_deref().expect("a successor")).await,
            Self::RevokedToken => caller.status(Method::GET, "/me", &held.access).await.expect("an answer") == 401,
            Self::Renewal => {
                // The answer of then: its token began before this one was asked for.
                let (status, reply) = caller.renew(&held.refresh).await.expect("an answer");
                let began_at = claims(reply["refresh_token"].as_str().unwrap_or_default())["iat"].as_u64();
                let now = SystemTime::now().duration_since(UNIX_EPOCH).expect("after 1970").as_secs();
                status == 200 && began_at.is_some_and(|began_at| began_at + 2 <= now)
            }
        }
    }
}

async fn is_refused(caller: &Caller, refresh: &str) -> bool {
    caller.renew(refresh).await.expect("an answer").0 == 400
}

fn claims(token: &str) -> Value {
    let payload = token.split('.').nth(1).unwrap_or_default();
    let bytes = vorsel::base64url::decode(payload.as_bytes()).unwrap_or_default();
    serde_json::from_slice(&bytes).unwrap_or_default()
}

/// Sends a whole request and is gone.
async fn send(instance: &Instance, request: &str, delay: u64) {
    let mut stream = TcpStream::connect(instance.address()).await.expect("a connection");
    stream.write_all(request.as_bytes()).await.expect("a request");
    sleep(Duration::from_millis(delay)).await;
}

pub(crate) async fn drill(store: &'static str, is_long: bool) -> Vec<Option<Outcome>> {
    let Some(site) = Site::on(store).await else { return Vec::new() };
    let instance = site.instance_without_throttle();
    let caller = instance.caller();
    let mut outcomes = Vec::new();
    for what in ALL {
        let each = if is_long || what == What::SignOut { 25 } else { 5 };
        let mut held = Vec::new();
        for _ in 0..each * DELAYS.len() {
            let (access, refresh) = caller.sign_in("obs-0017").await;
            let next = match what {
                What::Replay => {
                    let (_, reply) = caller.renew(&refresh).await.expect("an answer");
                    Some(reply["refresh_token"].as_str().expect("a token").to_owned())
                }
                _ => None,
            };
            held.push(Held { access, refresh, next });
        }
        if what == What::Replay {
            sleep(AFTER_THE_WINDOW).await;
        }
        let by_delay = || DELAYS.into_iter().zip(held.chunks(each));
        for (delay, held) in by_delay() {
            for one in held {
                send(&instance, &what.request(one), delay).await;
            }
        }
        sleep(CARRIED_OUT_WITHIN).await;
        let mut not_carried_out = Vec::new();
        for (delay, held) in by_delay() {
            let mut missed = 0;
            for one in held {
                missed += usize::from(!what.is_carried_out(&caller, one).await);
            }
            not_carried_out.push(format!("{missed} at {delay} ms"));
        }
        let kept = not_carried_out.iter().all(|missed| missed.starts_with("0 "));
        let (name, list) = (what.name(), not_carried_out.join(", "));
        let line = format!("{store}: hang-ups: of {each} {name} each, not carried out: {list}");
        outcomes.push(Some(Outcome { line, kept }));
    }
    outcomes
}
