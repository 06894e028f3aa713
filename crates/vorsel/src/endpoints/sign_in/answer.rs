//! The answer to a sign-in.

use std::net::IpAddr;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Request, State};
use axum::response::Response;
use http::HeaderMap;
use http::header::AUTHORIZATION;
use serde::Serialize;
use serde_json::{Map, Value};
use vorsel_core::{Scopes, SignIn, with_causes};

use super::attempt::Typed;
use super::hooks::{Known, PasswordSignIn, SignInSoFar};
use crate::admission::AdmissionError;
use crate::audit::cut;
use crate::endpoints::browser::Pages;
use crate::endpoints::call::whole;
use crate::endpoints::clients::client_of;
use crate::endpoints::reply::{Refused, unkept};
use crate::endpoints::state::Shared;
use crate::endpoints::which::Endpoint;
use crate::password::{PasswordCheckError, PasswordVerdict};
use crate::sessions::StartError;
use crate::throttle::{Attempt, Passed, Who};

pub(in crate::endpoints) async fn sign_in<C: Serialize + Send + Sync + 'static>(
    State(shared): State<Arc<Shared<C>>>,
    request: Request,
) -> Response {
    let address = shared.caller_of(request.headers(), request.extensions());
    let mut client = None;
    let answered = answer(&shared, address, request, &mut client).await;
    answered.unwrap_or_else(|refused| {
        refused.log(Endpoint::SignIn, client.as_deref());
        if refused.is_of_client() {
            let who = client.as_deref().map(Who::Client);
            shared.failed(&Attempt { address, who, mark: None });
        }
        refused.response(shared.issuer())
    })
}

/// A sign-in so far.
struct SignInUnderWay<'a, C> {
    shared: &'a Shared<C>,
    by: &'a PasswordSignIn,
    typed: Typed,
    client: String,
    address: Option<IpAddr>,
    /// Where the client runs in a browser.
    pages: Option<&'a Pages>,
    /// The refresh token of a session inside of which somebody signs in again.
    shown: Option<String>,
}

async fn answer<C: Serialize + Send + Sync + 'static>(
    shared: &Shared<C>,
    address: Option<IpAddr>,
    request: Request,
    client: &mut Option<String>,
) -> Result<Response, Refused> {
    let Some(by) = &shared.sign_in else { return Err(Refused::unavailable(Some("nothing is set up".to_owned()))) };
    let (parts, body) = whole(request).await?;
    let headers = &parts.headers;
    let mut typed = Typed::read(headers, &body)?;
    let names_none = !headers.contains_key(AUTHORIZATION) || typed.by_header;
    if let Some(usual) = by.client.as_ref().filter(|_| names_none && !typed.fields.contains_key("client_assertion")) {
        typed.fields.entry("client_id".to_owned()).or_insert_with(|| usual.clone());
    }
    *client = typed.fields.get("client_id").cloned();
    let pages = shared.pages.as_ref().filter(|pages| client.as_ref().is_some_and(|client| pages.has(client)));
    if let Some(pages) = pages {
        pages.allows(&parts)?;
        if let Some(mark) = pages.device_mark(headers) {
            typed.fields.insert("device_mark".to_owned(), mark);
        }
    }
    let in_form = typed.fields.remove("refresh_token");
    let shown = match pages {
        Some(pages) => pages.refresh_token(headers)?.or(in_form),
        None => in_form,
    };
    shared.admits_in_turn(&Attempt { address, mark: typed.mark(), ..Attempt::default() }).await?;
    let mut of_client = HeaderMap::new();
    if !typed.by_header {
        of_client.extend(headers.get_all(AUTHORIZATION).iter().map(|value| (AUTHORIZATION, value.clone())));
    }
    let authenticated = client_of(shared, Endpoint::SignIn, (&of_client, address), &typed.form(), client).await?;
    let under_way = SignInUnderWay { shared, by, typed, client: authenticated.id, address, pages, shown };
    let known = (by.find)(under_way.typed.subject.clone()).await;
    let known = known.map_err(|error| Refused::unavailable(Some(format!("the app's look-up: {error}"))))?;
    under_way.by_password(known).await
}

impl Typed {
    fn mark(&self) -> Option<&str> {
        self.fields.get("device_mark").map(String::as_str)
    }
}

impl<C: Serialize + Send + Sync + 'static> SignInUnderWay<'_, C> {
    /// Whom the attempt is about: for known and unknown ones alike.
    fn attempt<'b>(&'b self, known: Option<&'b Known>) -> Attempt<'b> {
        let subject = known.map_or(self.typed.subject.as_str(), |known| &known.subject);
        Attempt { address: self.address, who: Some(Who::Subject(subject)), mark: self.typed.mark() }
    }

    async fn by_password(self, known: Option<Known>) -> Result<Response, Refused> {
        let attempt = self.attempt(known.as_ref());
        let (passed, _going) = self.shared.reserve(&attempt).await?;
        let hash = known.as_ref().map(|known| known.hash.as_str());
        let is_outdated = match (self.by.passwords.check(&self.typed.password, hash).await, &known) {
            (Ok(PasswordVerdict::Right { is_outdated }), Some(_)) => is_outdated,
            (Ok(_), _) => {
                let code = if known.is_some() { "wrong-password" } else { "unknown-subject" };
                return Err(self.failed(known.as_ref(), code));
            }
            (Err(error @ PasswordCheckError::Busy { .. }), _) => {
                self.shared.give_back(&attempt, passed);
                return Err(Refused::busy(error.to_string()));
            }
            (Err(error), _) => {
                tracing::error!(target: "vorsel::endpoints", subject = attempt.subject(), "nobody can sign in so: {error}");
                return Err(self.failed(known.as_ref(), "unreadable-hash"));
            }
        };
        let Some(known) = known else { return Err(Refused::told("invalid_grant")) };
        self.then(&known, passed).await?;
        let answer = self.start(&known, passed).await?;
        if is_outdated {
            self.renew_hash(&known);
        }
        Ok(answer)
    }

    /// One line for each, and the same answer whatever was wrong.
    fn failed(&self, known: Option<&Known>, code: &str) -> Refused {
        let (subject, client) = (self.attempt(known).subject(), cut(&self.client));
        let address = self.address.map(tracing::field::display);
        tracing::info!(target: "vorsel::sign_in", code, subject, client, address, "a sign-in failed");
        Refused::told("invalid_grant")
    }

    /// What the app has to say to the right password.
    async fn then(&self, known: &Known, passed: Passed) -> Result<(), Refused> {
        let Some(then) = &self.by.then else { return Ok(()) };
        let so_far = SignInSoFar {
            subject: known.subject.clone(),
            client_id: self.client.clone(),
            address: self.address,
            fields: self.typed.fields.clone(),
        };
        let Err(not_yet) = then(so_far).await else { return Ok(()) };
        if not_yet.is_failure {
            return Err(self.failed(Some(known), &not_yet.code).why(not_yet.code));
        }
        self.shared.give_back(&self.attempt(Some(known)), passed);
        let reason = format!("the password was right, but not yet: {}", cut(&not_yet.code));
        Err(Refused::because("invalid_grant", reason).why(not_yet.code))
    }

    async fn start(&self, known: &Known, passed: Passed) -> Result<Response, Refused> {
        let attempt = self.attempt(Some(known));
        let field = |name: &str| self.typed.fields.get(name).map(String::as_str);
        let mut sign_in = SignIn::new(&known.subject, &self.client);
        if let Some(device) = field("device") {
            sign_in = sign_in.device(device);
        }
        if let Some(acr) = &known.acr {
            sign_in = sign_in.acr(acr);
        }
        let scopes = field("scope").map(Scopes::parse).transpose().map_err(|error| {
            self.shared.give_back(&attempt, passed);
            Refused::because("invalid_scope", error.to_string())
        });
        if let Some(scopes) = scopes? {
            sign_in = sign_in.scopes(scopes);
        }
        let reply = match &self.shown {
            Some(token) => self.shared.sessions.sign_in_again(token, sign_in).await,
            None => self.shared.sessions.start(sign_in).await,
        };
        let reply = reply.map_err(|error| {
            self.shared.give_back(&attempt, passed);
            refused(&error)
        })?;
        let (mut members, mark) = (known.members.clone(), self.shared.succeeded(&attempt, passed));
        if let Some(pages) = self.pages {
            let mut response = pages.reply(&reply, members);
            if let Some(mark) = mark {
                pages.keep_mark(response.headers_mut(), &mark);
            }
            return Ok(response);
        }
        if let Some(mark) = mark {
            members.insert("device_mark".to_owned(), mark.into());
        }
        #[derive(Serialize)]
        struct Answer<R> {
            #[serde(flatten)]
            reply: R,
            #[serde(flatten)]
            members: Map<String, Value>,
        }
        Ok(unkept(Json(Answer { reply, members })))
    }

    /// Makes the hash anew, where the app keeps it, once the answer is under way.
    fn renew_hash(&self, known: &Known) {
        let Some(keep) = self.by.renew.clone() else { return };
        let (passwords, password) = (self.by.passwords.clone(), self.typed.password.clone());
        let subject = known.subject.clone();
        drop(tokio::spawn(async move {
            let Ok(Some(hash)) = passwords.hash(&password).await else { return };
            if let Err(error) = keep(subject, hash).await {
                tracing::warn!(target: "vorsel::sign_in", "a new hash was not kept: {error}");
            }
        }));
    }
}

impl<'a> Attempt<'a> {
    fn subject(&self) -> &'a str {
        match self.who {
            Some(Who::Subject(name) | Who::Client(name)) => cut(name),
            None => "",
        }
    }
}

/// The sessions have logged why.
fn refused(error: &StartError) -> Refused {
    match error {
        StartError::TooManySessions { .. } => Refused::told("invalid_grant").why("too_many_sessions"),
        StartError::Admission(AdmissionError::Denied { .. }) | StartError::SubjectIsClient { .. } => {
            Refused::told("invalid_grant")
        }
        StartError::UnknownClient { .. } => Refused::told("unauthorized_client"),
        StartError::Scopes { .. } => Refused::told("invalid_scope"),
        error => Refused::unavailable(Some(with_causes(error))),
    }
}
