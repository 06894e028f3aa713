//! An issuer's feed over HTTP: polled for security events, each signed, each acknowledged by the next poll.

use std::collections::BTreeMap;
use std::fmt;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use async_trait::async_trait;
use http::StatusCode;
use http::header::ACCEPT;
use reqwest::{Client, Response, Url};
use serde::Deserialize;
use serde_json::{Value, json};
use tokio::time::sleep;
use vorsel_core::{Check, FeedEvent, Issuer, Verifier, with_causes};

use super::issuer::RemoteIssuer;
use crate::checker::KeySource;
use crate::clock::Clock;
use crate::live::Live;
use crate::outgoing::{self, OwnClient, Unread};
use crate::revocations::{Heard, Listening, Source, Stretch, lock};
use crate::store::{Cursor, FeedPage, StoreError};

/// How long the issuer may keep a poll when there is no news. Silence is known to be one after twice this time, which has to lie well
/// within what guards are set to bear.
const WAIT: Duration = Duration::from_secs(2);
/// An issuer that does not wait is not asked without a pause.
const LEAST_WAIT: Duration = Duration::from_millis(500);
/// After news: where much is revoked, it comes in fewer answers.
const AFTER_NEWS: Duration = Duration::from_millis(50);
/// Of what an issuer says of its refusal, in bytes and in characters.
const LARGEST_REFUSAL: usize = 16 * 1024;
const LONGEST_REASON: usize = 100;
/// A poll has one event, in base64 inside of JSON.
const LARGEST: usize = Issuer::LARGEST_SECURITY_EVENT + 64 * 1024;

/// The feed of an issuer, which this client may follow.
#[derive(Clone)]
pub(super) struct OfIssuer(Arc<Inner>);

pub(super) struct Inner {
    pub(super) issuer: RemoteIssuer,
    pub(super) endpoint: Url,
    pub(super) client: OwnClient,
    pub(super) http: Client,
    pub(super) verifier: Live<Verifier>,
    pub(super) clock: Arc<dyn Clock>,
    /// What could not be read, to be told with the next poll.
    pub(super) refused: Mutex<Option<Value>>,
}

/// What a poll is answered by ([RFC 8936 section 2.5](https://www.rfc-editor.org/rfc/rfc8936#section-2.5)).
#[derive(Deserialize)]
struct Answer {
    sets: BTreeMap<String, String>,
    #[serde(default, rename = "moreAvailable")]
    more_available: bool,
}

#[derive(Deserialize)]
struct Told {
    events: FeedEvent,
}

/// What an issuer of ours says when it refuses.
#[derive(Deserialize)]
struct Refusal {
    error: String,
}

/// What keeps a poll from being of use.
enum Trouble {
    /// It may be over when it is asked again.
    Passing(String),
    /// The issuer refuses, or says what can't be read.
    Lasting(String),
}

impl OfIssuer {
    pub(super) fn of(inner: Inner) -> Self {
        Self(Arc::new(inner))
    }

    async fn polled(&self, after: Option<&Cursor>, immediately: bool) -> Result<Stretch, StoreError> {
        let asked_at = Instant::now();
        let read = async {
            let mut response = self.0.sent(after, immediately).await?;
            let answer = answer(&mut response).await?;
            self.0.page(after, answer).await
        };
        match read.await {
            Ok((page, is_last)) => Ok(Stretch { after: after.cloned(), page, is_last, asked_at }),
            Err(Trouble::Passing(reason)) => Err(failed(reason).passing()),
            Err(Trouble::Lasting(reason)) => Err(failed(reason)),
        }
    }
}

impl Inner {
    /// The place is what the poll acknowledges; the issuer keeps none, so that whoever starts anew begins at the beginning.
    async fn sent(&self, after: Option<&Cursor>, immediately: bool) -> Result<Response, Trouble> {
        let request = self.http.post(self.endpoint.clone()).header(ACCEPT, "application/json");
        let (request, shown) = self.client.shown(request, self.endpoint.as_str()).map_err(Trouble::Lasting)?;
        let ack: Vec<&str> = after.map(Cursor::as_str).into_iter().collect();
        let mut body = json!({ "ownPlace": true, "ack": ack, "maxEvents": 1, "returnImmediately": immediately });
        shown.into_iter().for_each(|(name, value)| body[name] = value.into());
        let refused = lock(&self.refused).clone();
        if let Some(refused) = &refused {
            body["setErrs"] = refused.clone();
        }
        let request = request.header("prefer", format!("wait={}", WAIT.as_secs()));
        let response = request.json(&body).send().await.map_err(broken)?;
        // What was told, or may not be, is told once; what came up meanwhile is not forgotten for it.
        if !may_pass(response.status()) {
            let mut untold = lock(&self.refused);
            if *untold == refused {
                *untold = None;
            }
        }
        Ok(response)
    }

    async fn page(&self, after: Option<&Cursor>, answer: Answer) -> Result<(FeedPage, bool), Trouble> {
        let Answer { sets, more_available } = answer;
        let mut sets = sets.into_iter();
        match (sets.next(), sets.next()) {
            (None, _) if more_available => {
                Err(Trouble::Lasting("expected the events that there are more of, but found none".to_owned()))
            }
            (None, _) => Ok((FeedPage { cursor: after.cloned(), ..FeedPage::default() }, true)),
            (Some((id, token)), None) => match self.told(&id, &token).await {
                Ok(FeedEvent { is_anew, entries }) => {
                    // Whoever began at the beginning expects nothing else.
                    let is_anew = is_anew && after.is_some();
                    Ok((FeedPage { entries, cursor: Some(Cursor::new(id)), is_anew }, !more_available))
                }
                Err((check, reason)) => {
                    // A key that is not known is looked for again before long.
                    let is_passing = check == Some(Check::Key);
                    let code = if is_passing { "invalid_key" } else { "invalid_request" };
                    *lock(&self.refused) = Some(json!({ id: { "err": code, "description": reason } }));
                    let reason = format!("the event is refused: {reason}");
                    Err(if is_passing { Trouble::Passing(reason) } else { Trouble::Lasting(reason) })
                }
            },
            _ => Err(Trouble::Lasting("expected one event, but found several".to_owned())),
        }
    }

    /// The event of a token that was checked, or what is wrong with it.
    async fn told(&self, id: &str, token: &str) -> Result<FeedEvent, (Option<Check>, String)> {
        let check = || self.verifier.load().check_as::<Told>(token, self.clock.now());
        let mut checked = check();
        // The issuer has changed its keys.
        if matches!(&checked, Err(finding) if finding.check == Check::Key)
            && let Some(looking) = self.issuer.look_again()
        {
            looking.await;
            checked = check();
        }
        let checked = checked.map_err(|finding| (Some(finding.check), finding.to_string()))?;
        match checked.claims().id() == Some(id) {
            true => Ok(checked.own().events.clone()),
            false => Err((None, "expected the jti that it is told under, but found another".to_owned())),
        }
    }
}

/// Whether asking again may help.
fn may_pass(status: StatusCode) -> bool {
    status.is_server_error() || status == StatusCode::TOO_MANY_REQUESTS
}

async fn answer(response: &mut Response) -> Result<Answer, Trouble> {
    let status = response.status();
    if status != StatusCode::OK {
        let said = outgoing::whole(response, LARGEST_REFUSAL).await.ok();
        let said = said.and_then(|body| serde_json::from_slice::<Refusal>(&body).ok());
        let why = said.map(|said| format!(", {}", said.error.chars().take(LONGEST_REASON).collect::<String>()));
        let reason = format!("expected 200, but found {status}{}", why.unwrap_or_default());
        return Err(if may_pass(status) { Trouble::Passing(reason) } else { Trouble::Lasting(reason) });
    }
    let body = outgoing::whole(response, LARGEST).await.map_err(|unread| match unread {
        Unread::Broken(error) => broken(error),
        Unread::Large => Trouble::Lasting(format!("expected at most {LARGEST} bytes, but found more")),
    })?;
    serde_json::from_slice(&body).map_err(|error| {
        Trouble::Lasting(format!("expected an answer to a poll (RFC 8936), but found another: {error}"))
    })
}

fn failed(reason: String) -> StoreError {
    StoreError::new("tell what is revoked", reason).of_issuer()
}

fn broken(error: reqwest::Error) -> Trouble {
    Trouble::Passing(with_causes(&error.without_url()))
}

#[async_trait]
impl Source for OfIssuer {
    async fn stretch(&self, after: Option<&Cursor>) -> Result<Stretch, StoreError> {
        self.polled(after, true).await
    }

    fn name(&self) -> &str {
        self.0.issuer.issuer()
    }

    async fn listen(&self) -> Result<Box<dyn Listening>, StoreError> {
        Ok(Box::new(Polling { feed: self.clone(), not_before: Instant::now() }))
    }
}

/// Polls again and again.
struct Polling {
    feed: OfIssuer,
    not_before: Instant,
}

#[async_trait]
impl Listening for Polling {
    async fn heard(&mut self, after: Option<&Cursor>) -> Result<Heard, StoreError> {
        sleep(self.not_before.saturating_duration_since(Instant::now())).await;
        let stretch = self.feed.polled(after, false).await?;
        self.not_before = match stretch.page.entries.is_empty() {
            true => stretch.asked_at + LEAST_WAIT,
            false => Instant::now() + AFTER_NEWS,
        };
        Ok(Heard::Stretch(stretch))
    }
}

impl fmt::Debug for OfIssuer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Inner { endpoint, client, .. } = &*self.0;
        f.debug_struct("OfIssuer")
            .field("endpoint", &endpoint.as_str())
            .field("client_id", &client.id)
            .finish_non_exhaustive()
    }
}
