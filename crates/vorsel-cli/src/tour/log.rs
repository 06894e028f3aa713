//! The server's own log lines, kept for the story: who was refused, and by what, is read from them.

use std::fmt::{self, Debug};
use std::sync::{Arc, Mutex, PoisonError};

use tracing::field::{Field, Visit};
use tracing::{Event, Level, Subscriber};
use tracing_subscriber::Layer;
use tracing_subscriber::layer::{Context, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;

/// The log lines of the library since they were last taken.
#[derive(Clone, Default)]
pub(super) struct Log(Arc<Mutex<Vec<String>>>);

impl Log {
    /// Takes the lines written so far.
    pub(super) fn take(&self) -> Vec<String> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Begins to keep the log of this process.
pub(super) fn install() -> Log {
    let log = Log::default();
    tracing_subscriber::registry().with(log.clone()).init();
    log
}

impl<S: Subscriber> Layer<S> for Log {
    fn on_event(&self, event: &Event<'_>, _: Context<'_, S>) {
        let about = event.metadata();
        // Who was refused and why; what was changed, the answers tell.
        let is_audit = about.target() == "vorsel::audit";
        if about.target().starts_with("vorsel::") && !is_audit && *about.level() <= Level::INFO {
            let mut message = Message::default();
            event.record(&mut message);
            self.0.lock().unwrap_or_else(PoisonError::into_inner).push(message.0);
        }
    }
}

#[derive(Default)]
struct Message(String);

impl Visit for Message {
    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        if field.name() == "message" {
            let _ = fmt::Write::write_fmt(&mut self.0, format_args!("{value:?}"));
        }
    }
}
