//! Settings of an app: a file, the environment over it, and what is made from them.

mod opened;
mod source;
mod table;

use std::ffi::OsString;
use std::fmt;
use std::num::NonZeroU32;
use std::path::{Path, PathBuf};
use std::time::Duration;

use vorsel_core::{
    AccessPlan, Beyond, Expectations, Lifetime, PerSubject, Secret, SessionLimits, base64url, with_causes,
};

use crate::clients::Clients;
use crate::guard::WhenSilent;
use crate::plan_file::load_plan;
use crate::store::{StoreAddress, StoreOptions};
pub use opened::{OpenError, Opened};
use source::{Found, Source};
use table::SETTINGS;

/// What an app is set up with, from `vorsel.toml` and variables `VORSEL_…` over it.
///
/// ```no_run
/// use std::sync::Arc;
/// use vorsel::{Admission, NoOwn, Settings};
///
/// # async fn open(people: Arc<dyn Admission<NoOwn>>, router: axum::Router) -> Result<(), Box<dyn std::error::Error>> {
/// let opened = Settings::load("vorsel.toml")?.open().await?; // keys, store, what is revoked
/// let sessions = opened.sessions(people).build()?;
/// let app = opened.guard::<NoOwn>()?.build()?.router(router)?;
/// # Ok(())
/// # }
/// ```
///
/// Which settings there are says the page about them; secrets may stand in files of their own, and are never shown.
#[derive(Clone)]
#[non_exhaustive]
pub struct Settings {
    /// Who issues the tokens.
    pub issuer: String,
    /// Whom they are for.
    pub audience: String,
    /// Who may reach what, if a plan is named.
    pub plan: Option<AccessPlan>,
    /// The registered clients, if a file of them is named.
    pub clients: Option<Clients>,
    /// How far off a token's times may be that another issuer has made.
    pub skew: Duration,
    /// How far the clocks of instances and store may differ.
    pub clock_difference: Duration,
    /// The app's own origin.
    pub own_origin: Option<String>,
    /// The cookie that an access token is taken from as well.
    pub cookie: Option<String>,
    /// Other origins whose pages may use the cookie.
    pub cookie_origins: Vec<String>,
    /// Where the keys are.
    pub keys: KeyPlace,
    /// Where sessions are kept.
    pub store: StoreAddress,
    /// How the store is used.
    pub store_options: StoreOptions,
    /// How long access tokens last.
    pub access_lifetime: Lifetime,
    /// How long sessions last, and how many there may be.
    pub limits: SessionLimits,
    /// How long the feed may be silent.
    pub longest_silence: Duration,
    /// What happens when it is silent for longer.
    pub when_silent: WhenSilent,
    warnings: Vec<String>,
    variables: Vec<(String, OsString)>,
}

/// Where keys are kept.
///
/// ```
/// use vorsel::{KeyPlace, Settings};
///
/// fn told(settings: &Settings) -> String {
///     match &settings.keys {
///         KeyPlace::Folder(folder) => format!("keys in {}", folder.display()),
///         _ => "keys in the store".to_owned(),
///     }
/// }
/// ```
#[derive(Clone)]
#[non_exhaustive]
pub enum KeyPlace {
    /// In the files of a folder.
    Folder(PathBuf),
    /// In the store, sealed with a secret.
    Store(Secret),
}

/// What is wrong with the settings: everything at once, a line for each, with where it stands.
///
/// ```
/// use std::path::Path;
/// use vorsel::Settings;
///
/// let error = Settings::read("isuer = \"https://id.skarnhill.test\"\n", Path::new("vorsel.toml"), []).unwrap_err();
/// assert!(error.problems().iter().any(|problem| problem.contains("did you mean")), "{error}");
/// ```
#[derive(Clone, PartialEq, Eq)]
pub struct SettingsError {
    problems: Vec<String>,
}

vorsel_core::readable_debug!(SettingsError);

impl Settings {
    /// Reads a file and the environment. What is wrong with variables that are no setting goes to the log as a warning.
    ///
    /// # Errors
    /// Everything that is wrong, at once: the file cannot be read, has a name or a value that is none, or lacks what has to be
    /// set; the plan has a mistake.
    pub fn load(file: impl AsRef<Path>) -> Result<Self, SettingsError> {
        let file = file.as_ref();
        let text = std::fs::read_to_string(file).map_err(|error| SettingsError {
            problems: vec![format!("cannot read the settings {}: {}", file.display(), with_causes(&error))],
        })?;
        let settings = Self::read(&text, file, variables())?;
        for warning in settings.warnings() {
            tracing::warn!(target: "vorsel::settings", "{warning}");
        }
        Ok(settings)
    }

    /// The settings of the environment alone.
    ///
    /// # Errors
    /// Everything that is wrong, at once.
    pub fn from_environment() -> Result<Self, SettingsError> {
        Self::read("", Path::new("vorsel.toml"), variables())
    }

    /// Reads the text of a file and these variables over it; `file` is the name that mistakes are reported under, and paths are
    /// reckoned from its folder.
    ///
    /// # Errors
    /// Everything that is wrong, at once.
    pub fn read(
        text: &str,
        file: &Path,
        variables: impl IntoIterator<Item = (String, String)>,
    ) -> Result<Self, SettingsError> {
        let mut source = Source::default();
        source.file(text, file);
        source.environment(variables);
        Reading { source, file }.settings()
    }

    /// What can hardly be meant: variables that look like settings and are none.
    #[must_use]
    pub fn warnings(&self) -> &[String] {
        &self.warnings
    }

    /// What is expected of tokens.
    ///
    /// # Panics
    /// If the skew or the difference of clocks was set to more than five minutes afterwards.
    #[must_use]
    pub fn expectations(&self) -> Expectations {
        let expectations = Expectations::access(&self.issuer, &self.audience).skew(self.skew);
        let expectations = expectations.and_then(|expectations| expectations.issuer_ahead(self.clock_difference));
        expectations.unwrap_or_else(|error| panic!("{error}"))
    }

    /// What was set, as variables of the environment that would say the same, secrets among it; for a command whose options have
    /// the settings behind them.
    #[must_use]
    pub fn as_variables(&self) -> &[(String, OsString)] {
        &self.variables
    }

    /// The table of all settings, as the page about them has it.
    #[must_use]
    pub fn described() -> String {
        let row = |setting: &table::Setting| {
            let (name, variable, usually) = (setting.name, setting.variable(), setting.usually);
            format!("| `{name}` | `{variable}` | {usually} | {} |\n", setting.what)
        };
        let rows: String = SETTINGS.iter().map(row).collect();
        format!("| setting | variable | if nothing is said | what |\n|---|---|---|---|\n{rows}")
    }
}

fn variables() -> impl Iterator<Item = (String, String)> {
    std::env::vars_os().filter_map(|(name, value)| Some((name.into_string().ok()?, value.into_string().ok()?)))
}

/// Puts what was found together.
struct Reading<'a> {
    source: Source,
    file: &'a Path,
}

impl Reading<'_> {
    fn settings(mut self) -> Result<Settings, SettingsError> {
        let issuer = self.needed("issuer");
        let audience = self.needed("audience");
        let plan = self.plan();
        let clients = self.clients();
        let keys = self.keys();
        let (store, store_options) = self.store();
        let usual = SessionLimits::default();
        let (idle, absolute) = (self.lifetime("lifetimes.idle", usual.idle), usual.absolute);
        let absolute = self.lifetime("lifetimes.session", absolute);
        let limits = SessionLimits {
            idle,
            absolute,
            retry_window: self.span("lifetimes.retry_window").unwrap_or(usual.retry_window),
            per_subject: self.per_subject(),
        };
        let access_lifetime = self.lifetime("lifetimes.access", Lifetime::minutes(5));
        let when_silent = match self.text("revocations.when_silent").as_deref() {
            Some("refuse") => WhenSilent::Refuse,
            _ => WhenSilent::GoOn,
        };
        if !self.source.problems.is_empty() {
            return Err(SettingsError { problems: self.source.problems });
        }
        Ok(Settings {
            issuer,
            audience,
            plan,
            clients,
            skew: self.span("skew").unwrap_or(Duration::from_secs(5)),
            clock_difference: self.span("clock_difference").unwrap_or(Duration::from_secs(30)),
            own_origin: self.text("own_origin"),
            cookie: self.text("cookie"),
            cookie_origins: match self.source.found.get("cookie_origins") {
                Some((Found::Texts(texts), _)) => texts.clone(),
                _ => Vec::new(),
            },
            keys,
            store,
            store_options,
            access_lifetime,
            limits,
            longest_silence: self.span("revocations.longest_silence").unwrap_or(Duration::from_secs(10)),
            when_silent,
            warnings: self.source.warnings,
            variables: self.source.variables,
        })
    }

    fn text(&self, name: &str) -> Option<String> {
        match self.source.found.get(name) {
            Some((Found::Text(text), _)) => Some(text.clone()),
            _ => None,
        }
    }

    fn span(&self, name: &str) -> Option<Duration> {
        match self.source.found.get(name) {
            Some((Found::Span(span), _)) => Some(*span),
            _ => None,
        }
    }

    fn count(&self, name: &str) -> Option<u32> {
        match self.source.found.get(name) {
            Some((Found::Count(count), _)) => u32::try_from(*count).ok(),
            _ => None,
        }
    }

    fn path(&self, name: &str) -> Option<PathBuf> {
        match self.source.found.get(name) {
            Some((Found::Path(path), _)) => Some(path.clone()),
            _ => None,
        }
    }

    fn lifetime(&mut self, name: &str, usual: Lifetime) -> Lifetime {
        let Some(span) = self.span(name) else { return usual };
        Lifetime::try_from(span).unwrap_or_else(|error| {
            self.wrong(name, &error.to_string());
            usual
        })
    }

    fn wrong(&mut self, name: &str, problem: &str) {
        let here = self.source.found.get(name).map_or_else(|| self.file.display().to_string(), |(_, at)| at.clone());
        self.source.problems.push(format!("{here}: {name}: {problem}"));
    }

    fn needed(&mut self, name: &str) -> String {
        let is_unread = self.source.problems.iter().any(|problem| problem.contains(&format!(": {name}: ")));
        self.text(name).unwrap_or_else(|| {
            if !is_unread {
                let (file, variable) = (self.file.display(), format!("VORSEL_{}", name.to_uppercase()));
                self.source.problems.push(format!("expected {name} in {file}, or {variable}, but found neither"));
            }
            String::new()
        })
    }

    fn clients(&mut self) -> Option<Clients> {
        Clients::load(self.path("clients")?)
            .map_err(|error| self.source.problems.extend(with_causes(&error).lines().map(str::to_owned)))
            .ok()
    }

    fn plan(&mut self) -> Option<AccessPlan> {
        load_plan(self.path("plan")?)
            .map_err(|error| {
                // A line each, with their own places.
                self.source.problems.extend(with_causes(&error).lines().map(str::to_owned));
            })
            .ok()
    }

    fn keys(&mut self) -> KeyPlace {
        let default = || KeyPlace::Folder(self.file.parent().unwrap_or(Path::new("")).join("keys"));
        let Some((Found::Secret(text), _)) = self.source.found.get("keys.secret") else {
            return self.path("keys.folder").map_or_else(default, KeyPlace::Folder);
        };
        match base64url::decode(text.trim().as_bytes()).ok().filter(|bytes| bytes.len() >= 32) {
            Some(bytes) => {
                if self.path("keys.folder").is_some() {
                    self.wrong("keys.folder", "expected either a folder or a secret for keys in the store, not both");
                }
                KeyPlace::Store(Secret::new(bytes))
            }
            None => {
                self.wrong("keys.secret", "expected 32 random bytes or more in base64url, but found other text");
                KeyPlace::Folder(PathBuf::new())
            }
        }
    }

    fn store(&mut self) -> (StoreAddress, StoreOptions) {
        let options = StoreOptions {
            connections: self.count("store.connections"),
            answer_within: self.span("store.answer_within"),
            connect_within: self.span("store.connect_within"),
            schema: self.text("store.schema"),
            prefix: self.text("store.prefix"),
        };
        let (text, is_variable) = match self.source.found.get("store.address") {
            Some((Found::Secret(text), at)) => (text.to_string(), at.starts_with("VORSEL_")),
            _ => ("memory:".to_owned(), true),
        };
        let address = text.parse::<StoreAddress>().unwrap_or_else(|error| {
            self.wrong("store.address", &error.to_string());
            StoreAddress::memory()
        });
        for option in address.out_of_place(&options) {
            let kind = address.to_string().split(':').next().unwrap_or_default().to_owned();
            self.wrong(&format!("store.{option}"), &format!("expected it left out: it says nothing of a {kind} store"));
        }
        let folder = self.file.parent().filter(|_| !is_variable);
        let address = folder.map_or(address.clone(), |folder| address.reckoned_from(folder));
        if let Some(path) = address.file() {
            let address = format!("sqlite:{}", path.display());
            let said = self.source.variables.iter_mut().filter(|(name, _)| name == "VORSEL_STORE_ADDRESS");
            said.for_each(|(_, text)| *text = address.as_str().into());
        }
        (address, options)
    }

    fn per_subject(&mut self) -> Option<PerSubject> {
        let beyond = match self.text("sessions.beyond").as_deref() {
            Some("end-oldest") => Beyond::EndOldest,
            _ => Beyond::Refuse,
        };
        let most = self.count("sessions.most").and_then(NonZeroU32::new);
        if most.is_none() && self.text("sessions.beyond").is_some() {
            self.wrong("sessions.beyond", "expected sessions.most beside it, since any number is allowed without");
        }
        Some(PerSubject { most: most?, beyond })
    }
}

impl SettingsError {
    /// Each problem, with where it stands.
    #[must_use]
    pub fn problems(&self) -> &[String] {
        &self.problems
    }
}

impl fmt::Display for SettingsError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problems.join("\n"))
    }
}

impl std::error::Error for SettingsError {}

impl fmt::Debug for KeyPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Folder(folder) => f.debug_tuple("Folder").field(folder).finish(),
            Self::Store(_) => f.write_str("Store"),
        }
    }
}

impl fmt::Debug for Settings {
    /// Without secrets.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Settings")
            .field("issuer", &self.issuer)
            .field("audience", &self.audience)
            .field("keys", &self.keys)
            .field("store", &self.store)
            .field("store_options", &self.store_options)
            .field("access_lifetime", &self.access_lifetime)
            .field("limits", &self.limits)
            .finish_non_exhaustive()
    }
}
