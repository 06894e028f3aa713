//! The feed of what is revoked, for services without the store: security events
//! ([RFC 8417](https://www.rfc-editor.org/rfc/rfc8417)) by polling ([RFC 8936](https://www.rfc-editor.org/rfc/rfc8936)).

mod place;
mod poll;

use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Request, State};
use axum::response::Response;
use serde::Serialize;
use serde_json::json;
use tokio::time::{Instant, sleep, timeout, timeout_at};
use vorsel_core::{FeedEvent, IssueError, with_causes};

use super::call::Call;
use super::reply::{Refused, unkept};
use super::state::Shared;
use super::which::Endpoint;
use crate::store::{FeedPage, StoreError};
use place::Place;
use poll::Poll;

/// Entries told at once: about half a megabyte.
const PAGE: u32 = 5_000;
/// Whoever waits longer for the store, since it stands still, may come again.
const LONGEST_TURN: Duration = Duration::from_secs(5);
/// Whoever can't read an event is sent it again, but not without a pause.
const AFTER_ERROR: Duration = Duration::from_secs(1);

pub(super) async fn feed<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    request: Request,
) -> Response {
    shared.answer_read(Endpoint::Feed, request, Poll::read, decide).await
}

async fn decide<C: Serialize + Send + Sync + 'static>(
    shared: Arc<Shared<C>>,
    call: Call,
    poll: Poll,
) -> Result<Response, Refused> {
    let Some(client) = call.client.registered.filter(|client| client.follows()) else {
        return Err(Refused::because("unauthorized_client", "the client may not follow what is revoked"));
    };
    if let Some((_, error)) = poll.errors.first_key_value() {
        let (count, reason) = (poll.errors.len(), format!("{}: {}", error.err, error.description));
        Refused::because("unread", format!("{count} event of the feed could not be read there: {reason}"))
            .log(Endpoint::Feed, Some(client.id()));
        sleep(AFTER_ERROR).await;
    }
    let place = place(&shared, client.id(), &poll).await?;
    let told = told(&shared, client.id(), &place, &poll).await?;
    Ok(unkept(Json(match told {
        Told::Nothing { is_more } => json!({ "sets": {}, "moreAvailable": is_more }),
        Told::Event { id, token, is_more } => json!({ "sets": { id: token }, "moreAvailable": is_more }),
    })))
}

/// What a poll is answered.
enum Told {
    Nothing { is_more: bool },
    Event { id: String, token: String, is_more: bool },
}

async fn place<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    client: &str,
    poll: &Poll,
) -> Result<Place, Refused> {
    let access = shared.sessions.access_tokens();
    if !poll.has_own_place {
        return access.asked(place::kept(access.store(), client, &poll.acks)).await.map_err(|error| failed(&error));
    }
    let Some(ack) = poll.acks.first() else { return Ok(None) };
    let other = "expected the ack of an event that was told here, but found another";
    place::end_of(ack).ok_or_else(|| Refused::request(other))
}

fn failed(error: &StoreError) -> Refused {
    Refused::unavailable(Some(with_causes(error)))
}

/// The stretch after a place; where there is none yet, it is waited for.
async fn told<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    client: &str,
    place: &Place,
    poll: &Poll,
) -> Result<Told, Refused> {
    if !poll.wants_events {
        let page = page(shared, place, 1).await?;
        return Ok(Told::Nothing { is_more: !page.entries.is_empty() || page.is_anew });
    }
    let waiting = shared.feed_waiting.try_acquire();
    let wait = if waiting.is_ok() { poll.wait } else { Duration::ZERO };
    let give_up_at = Instant::now() + wait;
    // Before the feed is read, so that nothing falls between.
    let mut news = shared.sessions.access_tokens().revocations().map(|view| view.news());
    let mut most = PAGE;
    loop {
        let page = page(shared, place, most).await?;
        if !page.entries.is_empty() || page.is_anew {
            match event(shared, client, place, page, most) {
                // Names may be long.
                Err(IssueError::TooLarge { .. }) if most > 1 => most /= 4,
                told => {
                    return told.map_err(|error| Refused::unavailable(Some(with_causes(&error))));
                }
            }
            most = most.max(1);
            continue;
        }
        let grown = async {
            match &mut news {
                Some(news) => news.changed().await.is_ok(),
                None => std::future::pending().await,
            }
        };
        let is_told = tokio::select! {
            told = timeout_at(give_up_at, grown) => told == Ok(true),
            () = shared.sessions.access_tokens().under_way().stopping() => false,
        };
        if !is_told {
            return Ok(Told::Nothing { is_more: false });
        }
    }
}

async fn page<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    place: &Place,
    most: u32,
) -> Result<FeedPage, Refused> {
    let access = shared.sessions.access_tokens();
    let turn = timeout(LONGEST_TURN, shared.feed_reading.acquire()).await;
    let Ok(Ok(_turn)) = turn else {
        return Err(Refused::unavailable(Some("the feed is being read for others".to_owned())));
    };
    let found = access.asked(access.store().feed(place.as_ref(), most)).await;
    let found = match found {
        // It is of a store of another kind, which this one is in the place of, or made up.
        Err(error) if place.is_some() && !error.is_retryable() => {
            let anew = access.asked(access.store().feed(None, most)).await;
            anew.map(|page| FeedPage { is_anew: true, ..page })
        }
        found => found,
    };
    found.map_err(|error| failed(&error))
}

fn event<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    client: &str,
    place: &Place,
    page: FeedPage,
    most: u32,
) -> Result<Told, IssueError> {
    let FeedPage { entries, cursor, is_anew } = page;
    if place.is_none() {
        tracing::info!(target: "vorsel::endpoints", client, "the feed is followed from its beginning");
    }
    let is_more = entries.len() == most as usize;
    let id = place::event_id(client, place, &cursor);
    let event = FeedEvent { is_anew: is_anew || place.is_none(), entries };
    let token = shared.sessions.access_tokens().security_event(client, &id, &event)?;
    Ok(Told::Event { id, token, is_more })
}
