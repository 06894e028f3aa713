//! What changes something leaves a line under `vorsel::audit`: who, what, why. Never a token, and nothing that a client wrote
//! but cut, and escaped by the subscriber.

use vorsel_core::{EndReason, Keyring, Revocation, Revoked, Session, Timestamp};

/// How many characters a log shows of what somebody typed.
const LONGEST: usize = 200;

pub(crate) fn cut(text: &str) -> &str {
    // Each character has a byte at least.
    if text.len() <= LONGEST {
        return text;
    }
    text.char_indices().nth(LONGEST).map_or(text, |(end, _)| &text[..end])
}

/// One line each, so that a macro stands for the target and the level.
macro_rules! audit {
    ($event:literal, $($rest:tt)+) => {
        tracing::info!(target: "vorsel::audit", event = $event, $($rest)+)
    };
}

pub(crate) fn signed_in(session: &Session, displaced: u64) {
    let facts = &session.facts;
    let (subject, client, device) = (cut(&facts.subject), cut(&facts.client_id), facts.device.as_deref().map(cut));
    let displaced = (displaced > 0).then_some(displaced);
    audit!("signed-in", subject, session = session.id, client, device, displaced, "a session begins");
}

pub(crate) fn signed_in_again(session: &Session) {
    let (subject, client) = (cut(&session.facts.subject), cut(&session.facts.client_id));
    audit!("signed-in-again", subject, session = session.id, client, "the caller of a session has authenticated again");
}

pub(crate) fn redeemed(subject: &str, token_id: &str) {
    audit!("redeemed", subject = cut(subject), token_id, "a one-purpose token is used");
}

/// One session, by whatever ended it.
pub(crate) fn session_ended(session_id: &str, known: Option<&Session>, why: EndReason) {
    let subject = known.map(|session| cut(&session.facts.subject));
    let client = known.map(|session| cut(&session.facts.client_id));
    audit!("session-ended", subject, session = cut(session_id), client, why = why.code(), "a session ends");
}

/// All sessions of a subject.
pub(crate) fn subject_ended(subject: &str, count: u64, why: EndReason) {
    let subject = cut(subject);
    audit!("sessions-ended", subject, count, why = why.code(), "all sessions of the subject end");
}

/// All that started before a moment.
pub(crate) fn all_ended(before: Timestamp, why: EndReason) {
    let before = tracing::field::display(before);
    audit!("sessions-ended", before, why = why.code(), "all sessions that started before a moment end");
}

pub(crate) fn revoked(revocation: &Revocation) {
    let until = tracing::field::display(revocation.until);
    match &revocation.what {
        Revoked::Token(id) => audit!("revoked", token_id = cut(id), until, "an access token is revoked"),
        Revoked::Key(kid) => audit!("revoked", key = cut(kid), "all that the key has signed is revoked"),
        Revoked::IssuedTo { subject, up_to } => {
            let up_to = tracing::field::display(up_to);
            audit!("revoked", subject = cut(subject), up_to, until, "the subject's access tokens so far are revoked");
        }
        Revoked::IssuedInSession { session, up_to } => {
            let up_to = tracing::field::display(up_to);
            audit!("revoked", session = cut(session), up_to, until, "the session's access tokens so far are revoked");
        }
        Revoked::Issued { up_to } => {
            let up_to = tracing::field::display(up_to);
            audit!("revoked", up_to, until, "all access tokens so far are revoked");
        }
        Revoked::Session(session) => audit!("revoked", session = cut(session), until, "a session's tokens are revoked"),
        Revoked::SignIns { up_to } => {
            let up_to = tracing::field::display(up_to);
            audit!("revoked", up_to, until, "the tokens of all sessions so far are revoked");
        }
    }
}

/// A line for each key that has another state than before, whoever took the step. `place` is a file or a name in the store.
pub(crate) fn keys_changed(before: &Keyring, after: &Keyring, place: Option<&str>, now: Timestamp) {
    for key in after.keys() {
        let kid = key.key_id();
        let (was, is) = (before.state(kid, now), after.state(kid, now));
        if was == is {
            continue;
        }
        let name = |state: Option<vorsel_core::KeyState>| {
            state.map_or_else(|| "unknown".to_owned(), |state| state.to_string())
        };
        let signs_from = key.active_from().map(tracing::field::display);
        audit!(
            "key-changed",
            key = cut(kid),
            was = name(was),
            is = name(is),
            signs_from,
            place,
            "a key changes its state"
        );
    }
}
