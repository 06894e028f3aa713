//! `vorsel serve`: the observatory API as a server.

use std::io::IsTerminal;
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;

use clap::{Args, ValueEnum};
use tempfile::TempDir;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::EnvFilter;
use vorsel::store::StoreAddress;
use vorsel::{KeyPlace, Lifetime, Settings};

use crate::failure::Failure;
use crate::observatory;
use crate::server::{self, Limits};
use crate::settings::variables;

/// Serve the observatory API: sign-in, renewal, sign-out, and guarded routes.
///
/// Prints one line with its address when it is ready, logs each refusal to standard error, and stops on SIGTERM.
#[derive(Debug, Args)]
pub(crate) struct ServeArguments {
    /// The address to listen on; port 0 takes a free one.
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// Who issues the tokens. Instances that act as one are given the same.
    #[arg(long, value_name = "URL", env = "VORSEL_ISSUER")]
    issuer: Option<String>,
    /// Where sessions are kept: memory:, sqlite:PATH, postgres://…, redis://… or, encrypted, rediss://….
    #[arg(long, value_name = "STORE", env = "VORSEL_STORE_ADDRESS", hide_env_values = true)]
    store: Option<StoreAddress>,
    /// The folder of the signing keys, made on first use. Without it the keys last as long as the process.
    #[arg(long, value_name = "FOLDER", env = "VORSEL_KEYS_FOLDER")]
    keys: Option<PathBuf>,
    /// Keep the keys in the store, sealed with the secret in this file, as `vorsel keys secret` makes it. With it, no folder is
    /// looked at.
    #[arg(long, value_name = "FILE", env = "VORSEL_KEYS_SECRET_FILE")]
    keys_secret: Option<PathBuf>,
    /// How long access tokens last, 300 or 5m for instance.
    #[arg(long, value_name = "DURATION", value_parser = vorsel::read_duration, env = "VORSEL_LIFETIMES_ACCESS")]
    access_lifetime: Option<Duration>,
    /// For how long a spent refresh token may come again and gets the same successor; up to 5m.
    #[arg(long, value_name = "DURATION", value_parser = up_to_five_minutes, env = "VORSEL_LIFETIMES_RETRY_WINDOW")]
    retry_window: Option<Duration>,
    /// How far the clocks of instances and store may differ; up to 5m, 30s if nothing is said. Sessions are reckoned in the
    /// store's time; tokens of an instance that is so far ahead are taken; what is further off is logged.
    #[arg(long, value_name = "DURATION", value_parser = up_to_five_minutes, env = "VORSEL_CLOCK_DIFFERENCE")]
    clock_difference: Option<Duration>,
    /// Where clients reach it, if that is not where it listens: https, or on this machine.
    #[arg(long, value_name = "URL")]
    base: Option<String>,
    /// Whether failed sign-ins are counted, so that nobody guesses on.
    #[arg(long, value_name = "WHETHER", value_enum, default_value_t = Throttling::On)]
    throttle: Throttling,
    /// How many connections there may be; at one more, the one that has been idle for longest is closed.
    #[arg(long, value_name = "COUNT", default_value_t = 4_096, value_parser = clap::value_parser!(u32).range(1..))]
    connections: u32,
    /// Within which a request's headers have to come, the next request, and its whole body.
    #[arg(long, value_name = "DURATION", default_value = "10s", value_parser = patience)]
    patience: Duration,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
enum Throttling {
    On,
    /// For load tests: anybody may guess.
    Off,
}

fn patience(text: &str) -> Result<Duration, String> {
    let span = vorsel::read_duration(text).map_err(|error| error.to_string())?;
    if span.is_zero() { Err("expected some time".to_owned()) } else { Ok(span) }
}

fn up_to_five_minutes(text: &str) -> Result<Duration, String> {
    let span = vorsel::read_duration(text).map_err(|error| error.to_string())?;
    if span > Duration::from_secs(300) { Err("expected 5m at most".to_owned()) } else { Ok(span) }
}

/// What is under way when SIGTERM comes has this long to finish.
const LAST_REQUESTS: Duration = Duration::from_secs(5);

pub(crate) fn run(arguments: &ServeArguments, file: Option<&Path>) -> Result<ExitCode, Failure> {
    let filter = EnvFilter::try_from_env("VORSEL_LOG").unwrap_or_else(|_| EnvFilter::new("info"));
    let in_colour = std::io::stderr().is_terminal();
    // No request waits for whoever reads the log: lines for which there is no room are left out.
    let (writer, _until_written) = tracing_appender::non_blocking(std::io::stderr());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(writer).with_ansi(in_colour).init();
    tokio::runtime::Runtime::new()?.block_on(serve(arguments, file))?;
    Ok(ExitCode::SUCCESS)
}

/// How many files this process may have open, where that can be told.
fn open_files() -> Option<usize> {
    let limits = std::fs::read_to_string("/proc/self/limits").ok()?;
    let line = limits.lines().find_map(|line| line.strip_prefix("Max open files"))?;
    line.split_whitespace().next()?.parse().ok()
}

impl ServeArguments {
    fn limits(&self) -> Limits {
        let asked = self.connections as usize;
        // The store, the keys and the log have files open, too.
        let most = open_files().map_or(asked, |files| files.saturating_sub(64).max(16));
        if most < asked {
            tracing::warn!(target: "vorsel::serve", "{asked} connections are more than open files allow; {most} it is");
        }
        Limits {
            connections: asked.min(most),
            headers_within: self.patience,
            body_within: self.patience,
            last_requests: LAST_REQUESTS,
        }
    }

    /// The settings of the file, or of the demo, with the options over them; and the folder for keys that nobody keeps.
    fn settings(&self, file: Option<&Path>) -> Result<(Settings, Option<TempDir>), Failure> {
        let mut temporary = None;
        let mut settings = match file {
            Some(file) => Settings::load(file)?,
            None => {
                let mut settings = observatory::settings(variables())?;
                if matches!(settings.keys, KeyPlace::Folder(_)) && self.keys.is_none() {
                    let folder = tempfile::tempdir()?;
                    settings.keys = KeyPlace::Folder(folder.path().to_owned());
                    temporary = Some(folder);
                }
                settings
            }
        };
        if let Some(issuer) = &self.issuer {
            settings.issuer.clone_from(issuer);
        }
        if let Some(store) = &self.store {
            settings.store = store.clone();
        }
        if let Some(secret) = &self.keys_secret {
            settings.keys = KeyPlace::Store(crate::keys::read_secret(secret)?);
        } else if let Some(folder) = &self.keys {
            settings.keys = KeyPlace::Folder(folder.clone());
        }
        if let Some(lifetime) = self.access_lifetime {
            settings.access_lifetime = Lifetime::try_from(lifetime)?;
        }
        settings.limits.retry_window = self.retry_window.unwrap_or(settings.limits.retry_window);
        settings.clock_difference = self.clock_difference.unwrap_or(settings.clock_difference);
        Ok((settings, temporary))
    }
}

/// An address that clients on this machine can use where the server listens on all of them.
fn named(mut here: SocketAddr) -> SocketAddr {
    if here.ip().is_unspecified() {
        here.set_ip(if here.is_ipv4() { Ipv4Addr::LOCALHOST.into() } else { Ipv6Addr::LOCALHOST.into() });
    }
    here
}

async fn serve(arguments: &ServeArguments, file: Option<&Path>) -> Result<(), Failure> {
    let (settings, _temporary) = arguments.settings(file)?;
    let mut terminate = signal(SignalKind::terminate())?;
    let listener = TcpListener::bind(arguments.listen)
        .await
        .map_err(|error| Failure::from(error).while_doing(format!("cannot listen on {}", arguments.listen)))?;
    let here = listener.local_addr()?;
    let base = arguments.base.clone().unwrap_or_else(|| format!("http://{}", named(here)));
    let (app, sessions) = observatory::open(&settings.open().await?, &base, arguments.throttle == Throttling::On)?;
    let _housekeeping = sessions.keep_house();
    anstream::println!("listening on http://{here}");
    let stop = async {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        sessions.stopping();
    };
    server::serve(listener, app, arguments.limits(), stop).await;
    // What those have asked for who are gone already.
    drop(tokio::time::timeout(LAST_REQUESTS, sessions.settled()).await);
    Ok(())
}
