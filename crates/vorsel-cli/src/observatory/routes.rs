//! The guarded routes. No handler checks anything: who may call it stands in the access plan.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use http::StatusCode;
use serde_json::{Value, json};
use vorsel::{Caller, PredicateAnswer, PredicateRequest, Routes};

use super::people::People;
use super::staff::Staff;

pub(super) fn routes(people: Arc<People>) -> Routes {
    Routes::new()
        .route("/health", get(|| async { Json(json!({ "health": "good" })) }))
        .route("/exposures", get(exposures).post(queue_exposure))
        .route("/exposures/{id}", get(exposure).delete(cancel_exposure))
        .route("/me", get(me))
        .route("/dome", get(dome).post(move_dome))
        .route("/dome/override", post(move_dome))
        .route("/night-log", get(night_log).post(add_log_line))
        .route("/weather", post(report_weather))
        .route("/observers/{observer}/proposals", get(proposals).post(add_proposal))
        .route("/people/{person}/roles", get(roles).put(give_roles))
        .with_state(people)
}

/// Each with its target, its seconds and who queued it.
const EXPOSURES: [(&str, &str, u32, &str); 3] = [
    ("exp-101", "M 33, first half", 240, "obs-0017"),
    ("exp-102", "flat field", 12, "ope-0002"),
    ("exp-103", "comet, wide", 90, "obs-0017"),
];

/// The predicate `queued-by-caller` of the access plan. Every observer may read the list, so it need not hide an exposure.
pub(super) async fn queued_by_caller(caller: Caller<Staff>, request: PredicateRequest) -> PredicateAnswer {
    let id = request.path("id").unwrap_or_default();
    Ok(EXPOSURES.iter().any(|(known, _, _, queued_by)| *known == id && *queued_by == caller.subject()))
}

async fn cancel_exposure(Path(id): Path<String>) -> Response {
    match EXPOSURES.iter().any(|(known, ..)| *known == id) {
        true => Json(json!({ "cancelled": id })).into_response(),
        false => missing("exposure"),
    }
}

async fn me(caller: Caller<Staff>) -> Json<Value> {
    Json(json!({ "subject": caller.subject(), "roles": caller.roles().collect::<Vec<_>>() }))
}

async fn add_log_line(caller: Caller<Staff>) -> (StatusCode, Json<Value>) {
    (StatusCode::CREATED, Json(json!({ "log": "line added", "by": caller.subject() })))
}

async fn report_weather(caller: Caller<Staff>) -> (StatusCode, Json<Value>) {
    (StatusCode::CREATED, Json(json!({ "weather": "noted", "from": caller.subject() })))
}

fn missing(what: &str) -> Response {
    (StatusCode::NOT_FOUND, Json(json!({ "missing": what }))).into_response()
}

async fn exposures() -> Json<Value> {
    Json(json!({ "exposures": EXPOSURES.map(|(id, ..)| id) }))
}

async fn exposure(Path(id): Path<String>) -> Response {
    match EXPOSURES.iter().find(|(known, ..)| *known == id) {
        Some((id, target, seconds, _)) => {
            Json(json!({ "id": id, "target": target, "seconds": seconds })).into_response()
        }
        None => missing("exposure"),
    }
}

async fn queue_exposure(caller: Caller<Staff>) -> (StatusCode, Json<Value>) {
    (StatusCode::CREATED, Json(json!({ "queued": "exp-104", "for": caller.subject() })))
}

async fn dome() -> Json<Value> {
    Json(json!({ "azimuth": 118, "shutter": "closed" }))
}

async fn move_dome(caller: Caller<Staff>) -> Json<Value> {
    Json(json!({ "dome": "moving", "by": caller.subject(), "training": caller.own().training }))
}

async fn night_log(caller: Caller<Staff>) -> Json<Value> {
    Json(json!({ "for": caller.subject(), "shift": caller.own().shift, "log": ["20:14 dome open", "23:50 clouds"] }))
}

async fn proposals(Path(observer): Path<String>) -> Json<Value> {
    Json(json!({ "observer": observer, "proposals": ["variable stars in M 33"] }))
}

async fn add_proposal(Path(observer): Path<String>) -> (StatusCode, Json<Value>) {
    (StatusCode::CREATED, Json(json!({ "observer": observer, "proposal": "received" })))
}

async fn roles(State(people): State<Arc<People>>, Path(person): Path<String>) -> Response {
    match people.find(&person) {
        Some(person) => {
            let body = json!({ "subject": person.subject, "nickname": person.nickname, "roles": people.roles(person) });
            Json(body).into_response()
        }
        None => missing("person"),
    }
}

async fn give_roles(
    State(people): State<Arc<People>>,
    Path(person): Path<String>,
    Json(roles): Json<Vec<String>>,
) -> Response {
    match people.find(&person) {
        Some(person) => {
            people.give(person, roles.clone());
            Json(json!({ "subject": person.subject, "roles": roles, "from": "the next renewal on" })).into_response()
        }
        None => missing("person"),
    }
}
