//! Every setting there is: one list, which the file, the environment and the page about settings go by.

use std::time::Duration;

/// What a setting takes.
#[derive(Clone, Copy, Debug)]
pub(super) enum Kind {
    Text,
    /// A list of texts; in the environment they are separated by commas.
    Texts,
    /// A file or a folder, reckoned from the folder of the settings file, or from where the process runs.
    Path,
    /// A text that is never shown. It may stand in a file of its own, whose name the setting with `_file` at its end gives.
    Secret,
    Span(Duration, Duration),
    Count(u64, u64),
    OneOf(&'static [&'static str]),
}

/// One setting.
#[derive(Debug)]
pub(super) struct Setting {
    /// Its name in the file; with a dot in it, it stands in a table.
    pub(super) name: &'static str,
    pub(super) kind: Kind,
    /// What holds if nothing is said, in words.
    pub(super) usually: &'static str,
    pub(super) what: &'static str,
}

const fn setting(name: &'static str, kind: Kind, usually: &'static str, what: &'static str) -> Setting {
    Setting { name, kind, usually, what }
}

const fn secs(count: u64) -> Duration {
    Duration::from_secs(count)
}

/// What a [`Lifetime`](crate::Lifetime) may be.
const LONGEST: Duration = secs(366 * 10 * 86_400);
const LIFETIME: Kind = Kind::Span(secs(1), LONGEST);
/// How long somebody waits.
const WAIT: Kind = Kind::Span(Duration::from_millis(10), secs(300));
/// What clocks may differ by.
const DIFFERENCE: Kind = Kind::Span(Duration::ZERO, secs(300));

pub(super) const SETTINGS: &[Setting] = &[
    setting("issuer", Kind::Text, "has to be set", "who issues the tokens, an https URL as a rule: `iss`"),
    setting("audience", Kind::Text, "has to be set", "whom they are for, this API: `aud`"),
    setting("plan", Kind::Path, "none", "the access plan, an `access.toml`"),
    setting(
        "clients",
        Kind::Path,
        "none",
        "the registered clients, a `clients.toml`; without it any name is a client's",
    ),
    setting("skew", DIFFERENCE, "5s", "how far off a token's times may be that another issuer has made"),
    setting("clock_difference", DIFFERENCE, "30s", "how far the clocks of instances and store may differ"),
    setting("own_origin", Kind::Text, "none", "the app's own origin, for browsers that name no other"),
    setting("cookie", Kind::Text, "none", "the cookie that an access token is taken from as well"),
    setting("cookie_origins", Kind::Texts, "none", "other origins whose pages may use the cookie"),
    setting("keys.folder", Kind::Path, "`keys`", "the folder of the keys, made on first use"),
    setting("keys.secret", Kind::Secret, "none", "keeps the keys in the store, sealed with this secret"),
    setting("store.address", Kind::Secret, "`memory:`", "`memory:`, `sqlite:PATH`, `postgres://…`, `redis://…`"),
    setting("store.connections", Kind::Count(1, 1_000), "10; SQLite: 4", "how many connections are kept at most"),
    setting("store.answer_within", WAIT, "5s", "longer than this nobody waits for an answer"),
    setting("store.connect_within", WAIT, "2s", "longer than this nobody waits for a connection"),
    setting("store.schema", Kind::Text, "the first", "PostgreSQL: the schema of the tables"),
    setting("store.prefix", Kind::Text, "`vorsel:`", "Redis: what all keys begin with"),
    setting("lifetimes.access", LIFETIME, "5m", "how long access tokens last"),
    setting("lifetimes.idle", LIFETIME, "14d", "how long a session lasts without being renewed"),
    setting("lifetimes.session", LIFETIME, "90d", "how long a session lasts however often it is renewed"),
    setting("lifetimes.retry_window", DIFFERENCE, "10s", "for how long a spent refresh token gets its successor again"),
    setting("sessions.most", Kind::Count(1, 1_000_000), "any number", "how many sessions a subject may have"),
    setting(
        "sessions.beyond",
        Kind::OneOf(&["end-oldest", "refuse"]),
        "`refuse`",
        "what a sign-in beyond that leads to",
    ),
    setting("revocations.longest_silence", WAIT, "10s", "how long the feed may be silent"),
    setting("revocations.when_silent", Kind::OneOf(&["go-on", "refuse"]), "`go-on`", "what happens then"),
];

impl Setting {
    /// Its name in the environment.
    pub(super) fn variable(&self) -> String {
        format!("VORSEL_{}", self.name.replace('.', "_").to_uppercase())
    }

    pub(super) fn expected(&self) -> String {
        let spoken =
            |span: Duration| if span.subsec_nanos() > 0 { format!("{span:?}") } else { vorsel_core::spoken(span) };
        match self.kind {
            Kind::Text | Kind::Path => "a text".to_owned(),
            Kind::Secret => "a secret as a text".to_owned(),
            Kind::Texts => "a list of texts".to_owned(),
            Kind::Span(from, to) => {
                format!("a duration from {} to {}, such as \"10m\"", spoken(from), spoken(to))
            }
            Kind::Count(from, to) => format!("a whole number from {from} to {to}"),
            Kind::OneOf(words) => words.iter().map(|word| format!("{word:?}")).collect::<Vec<_>>().join(" or "),
        }
    }
}
