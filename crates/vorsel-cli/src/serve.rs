//! `vorsel serve`: the observatory API as a server.

use std::io::IsTerminal;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use clap::Args;
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::EnvFilter;
use vorsel::endpoints::Patient;
use vorsel::{IssuerKeys, Lifetime, LiveRevocations, SessionLimits};

use crate::failure::Failure;
use crate::observatory::{self, Opening, Settings};
use crate::store_address::StoreAddress;

/// Serve the observatory API: sign-in, renewal, sign-out, and guarded routes.
///
/// Prints one line with its address when it is ready, logs each refusal to standard error, and stops on SIGTERM.
#[derive(Debug, Args)]
pub(crate) struct ServeArguments {
    /// The address to listen on; port 0 takes a free one.
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:0")]
    listen: SocketAddr,
    /// Where sessions are kept: memory:, sqlite:PATH, postgres://…, redis://… or, encrypted, rediss://….
    #[arg(long, value_name = "STORE", default_value = "memory:")]
    store: StoreAddress,
    /// The folder of the signing keys, made on first use. Without it the keys last as long as the process.
    #[arg(long, value_name = "FOLDER", env = "VORSEL_KEYS")]
    keys: Option<PathBuf>,
    /// Keep the keys in the store, sealed with the secret in this file, as `vorsel keys secret` makes it. With it, no folder is
    /// looked at.
    #[arg(long, value_name = "FILE")]
    keys_secret: Option<PathBuf>,
    /// How long access tokens last.
    #[arg(long, value_name = "SECONDS")]
    access_lifetime: Option<u64>,
    /// For how long a spent refresh token may come again and gets the same successor; 0 to 300.
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(0..=300))]
    retry_window: Option<u64>,
    /// How far the clocks of instances and store may differ; 0 to 300. Sessions are reckoned in the store's time; tokens of
    /// an instance that is so far ahead are taken; what is further off is logged.
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(0..=300))]
    clock_difference: u64,
}

/// What is under way when SIGTERM comes has this long to finish.
const LAST_REQUESTS: Duration = Duration::from_secs(5);
const PURGE_EVERY: Duration = Duration::from_secs(60);

pub(crate) fn run(arguments: &ServeArguments) -> Result<ExitCode, Failure> {
    let filter = EnvFilter::try_from_env("VORSEL_LOG").unwrap_or_else(|_| EnvFilter::new("info"));
    let in_colour = std::io::stderr().is_terminal();
    // No request waits for whoever reads the log: lines for which there is no room are left out.
    let (writer, _until_written) = tracing_appender::non_blocking(std::io::stderr());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(writer).with_ansi(in_colour).init();
    tokio::runtime::Runtime::new()?.block_on(serve(arguments))?;
    Ok(ExitCode::SUCCESS)
}

async fn serve(arguments: &ServeArguments) -> Result<(), Failure> {
    let settings = Settings::demo()?;
    let (_temporary, folder) = match &arguments.keys {
        Some(folder) => (None, folder.clone()),
        None => {
            let temporary = tempfile::tempdir()?;
            let folder = temporary.path().to_owned();
            (Some(temporary), folder)
        }
    };
    let access_lifetime = Duration::from_secs(arguments.access_lifetime.unwrap_or(settings.access_lifetime));
    let retry_window = Duration::from_secs(arguments.retry_window.unwrap_or(settings.retry_window));
    let mut terminate = signal(SignalKind::terminate())?;
    let listener = TcpListener::bind(arguments.listen)
        .await
        .map_err(|error| Failure::from(error).while_doing(format!("cannot listen on {}", arguments.listen)))?;
    let base = format!("http://{}", listener.local_addr()?);
    let store = arguments.store.open().await?;
    let clock_difference = Duration::from_secs(arguments.clock_difference);
    let revocations = LiveRevocations::follow_within(store.clone(), clock_difference).await?;
    let keys = match &arguments.keys_secret {
        Some(secret) => IssuerKeys::in_store(store.clone(), &crate::keys::read_secret(secret)?).await?,
        None => IssuerKeys::in_folder(folder)?,
    };
    keys.access.allow_lifetime(Lifetime::try_from(access_lifetime)?).await?;
    let (app, sessions) = observatory::open(Opening {
        keys,
        store,
        revocations,
        access_lifetime: Lifetime::try_from(access_lifetime)?,
        limits: SessionLimits { retry_window, ..SessionLimits::default() },
        clock_difference,
        base: base.clone(),
        settings,
    })?;
    let purged = sessions.clone();
    let purging = tokio::spawn(async move {
        loop {
            tokio::time::sleep(PURGE_EVERY).await;
            if let Err(error) = purged.purge().await {
                tracing::warn!(target: "observatory", "old sessions are kept for now: {error}");
            }
        }
    });
    let (stopping, stopped) = tokio::sync::oneshot::channel::<()>();
    let server = axum::serve(Patient::new(listener), app).with_graceful_shutdown(async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        drop(stopping);
    });
    anstream::println!("listening on {base}");
    tokio::select! {
        ended = async { server.await } => ended?,
        () = async { drop(stopped.await); tokio::time::sleep(LAST_REQUESTS).await } => {}
    }
    purging.abort();
    // What those have asked for who are gone already.
    drop(tokio::time::timeout(LAST_REQUESTS, sessions.settled()).await);
    Ok(())
}
