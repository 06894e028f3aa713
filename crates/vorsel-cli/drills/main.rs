//! Drills: what the model proves, tried on running instances with the default settings, under faults, over HTTP.
//!
//! `cargo test -p vorsel-cli --bench drills` takes the short ones, `-- long` all of them, `-- stall`, `-- silent`, `-- hang-up`,
//! `-- held-up`, `-- fail-over`, `-- clocks` or `-- guess` those of a kind; `redis`, `postgres` or `sqlite` beside it those on one store. One line
//! for each; the exit status is 1 if a promise was broken.
#![cfg(unix)]

mod cable;
mod clients;
mod clocks;
mod fail_over;
mod faults;
mod guess;
mod hang_up;
mod held_up;
mod silent;
mod stall;

#[path = "../tests/common/instance.rs"]
mod instance;
#[path = "../../vorsel/tests/servers/mod.rs"]
mod servers;

use std::process::ExitCode;

use servers::{Kind, Server};
use tempfile::TempDir;

use cable::Cable;
use instance::Instance;

/// A store of a drill's own behind a cable, and the keys of the instances on it.
pub(crate) struct Site {
    pub(crate) server: Option<Server>,
    pub(crate) cable: Option<Cable>,
    store: String,
    folder: TempDir,
}

impl Site {
    /// Nothing if the server's program is not installed.
    async fn on(name: &'static str) -> Option<Self> {
        let folder = tempfile::tempdir().expect("a folder");
        let kind = match name {
            "postgres" => Kind::Postgres,
            "redis" => Kind::Redis,
            _ => {
                let store = format!("sqlite:{}", folder.path().join("sessions.sqlite").display());
                return Some(Self { server: None, cable: None, store, folder });
            }
        };
        let server = servers::start(kind)?;
        let cable = Cable::to(server.port).await;
        let store = server.empty_database().replace(&format!(":{}/", server.port), &format!(":{}/", cable.port));
        Some(Self { server: Some(server), cable: Some(cable), store, folder })
    }

    fn instance(&self) -> Instance {
        self.instance_on(&self.store)
    }

    /// An instance on which anybody may fail as often as it takes to look what has ended.
    fn instance_without_throttle(&self) -> Instance {
        let keys = self.folder.path().join("keys").display().to_string();
        Instance::listening("127.0.0.1:0", &["--store", &self.store, "--keys", &keys, "--throttle", "off"])
    }

    /// An instance that has a way to the server of its own.
    fn instance_by(&self, cable: &Cable) -> Instance {
        let usual = self.cable.as_ref().expect("a cable").port;
        self.instance_on(&self.store.replace(&format!(":{usual}/"), &format!(":{}/", cable.port)))
    }

    /// One that knows the server and its standby, where an address can name both, and no cable that is led elsewhere.
    fn instance_that_knows(&self, standby: u16) -> Instance {
        let usual = self.cable.as_ref().expect("a cable").port;
        let hosts = format!(":{},127.0.0.1:{standby}/", self.server.as_ref().expect("a server").port);
        if !self.store.starts_with("postgres:") {
            return self.instance();
        }
        self.instance_on(&self.store.replace(&format!(":{usual}/"), &hosts))
    }

    fn instance_on(&self, store: &str) -> Instance {
        let keys = self.folder.path().join("keys").display().to_string();
        Instance::listening("127.0.0.1:0", &["--store", store, "--keys", &keys])
    }

    /// Where a standby may have its files.
    fn standby_folder(&self) -> &std::path::Path {
        self.server.as_ref().expect("a server").folder()
    }

    /// The file of an embedded store.
    fn file(&self) -> &str {
        self.store.trim_start_matches("sqlite:")
    }
}

/// What came of a drill: one line, and whether the promise was kept.
pub(crate) struct Outcome {
    line: String,
    kept: bool,
}

const STORES: [&str; 3] = ["sqlite", "postgres", "redis"];

#[tokio::main]
async fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with("--")).collect();
    let asked = |word: &str| words.iter().any(|asked| asked == word);
    let is_long = asked("long");
    let wanted = |kind: &str| {
        asked(kind)
            || !["stall", "silent", "hang-up", "held-up", "fail-over", "clocks", "guess"].iter().any(|kind| asked(kind))
    };
    let mut kept = true;
    let mut tell = |outcome: Option<Outcome>| {
        if let Some(Outcome { line, kept: this }) = outcome {
            println!("{} {line}", if this { "kept  " } else { "BROKEN" });
            kept &= this;
        }
    };
    for store in STORES.into_iter().filter(|store| asked(store) || !STORES.iter().any(|store| asked(store))) {
        // It is not about the store.
        if wanted("guess") && store == "sqlite" {
            guess::drill(store).await.into_iter().flatten().for_each(|outcome| tell(Some(outcome)));
        }
        if wanted("hang-up") {
            hang_up::drill(store, is_long).await.into_iter().for_each(&mut tell);
        }
        if wanted("stall") {
            for fault in faults::of(store, is_long) {
                tell(stall::drill(store, fault).await);
            }
        }
        if wanted("silent") && store != "sqlite" {
            tell(silent::drill(store).await);
        }
        if wanted("fail-over") && store != "sqlite" {
            for with_loss in [false, true] {
                tell(fail_over::drill(store, with_loss).await);
            }
        }
        // Processes that share a file share a machine, and its clock.
        if wanted("clocks") && store != "sqlite" {
            for &apart in if is_long { &[16, 60, 200][..] } else { &[60] } {
                tell(clocks::drill(store, apart).await);
            }
        }
        if wanted("held-up") && store == "postgres" {
            tell(held_up::by_a_dying_host(store).await);
            for what in [held_up::What::Feed, held_up::What::OneSession] {
                tell(held_up::by_a_lock(store, what, is_long).await);
            }
        }
    }
    if kept { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
