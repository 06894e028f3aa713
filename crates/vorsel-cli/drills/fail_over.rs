//! A standby takes over, with all that the primary had or without its last moments.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use reqwest::Method;
use tokio::time::sleep;

use crate::cable::Cable;
use crate::instance::{Caller, Instance};
use crate::servers::{as_postgres, free_port, postgres_program};
use crate::{Outcome, Site};

const EACH: usize = 20;
const WORKS_AGAIN_WITHIN: Duration = Duration::from_secs(20);
/// From then on what was lost has to be known again.
const KNOWN_AGAIN_WITHIN: Duration = Duration::from_secs(10);

/// A session's access and refresh token.
type Pair = (String, String);

/// A standby of a site's server, behind a cable of its own.
struct Standby {
    process: Child,
    folder: PathBuf,
    port: u16,
    is_redis: bool,
}

impl Standby {
    fn of(store: &str, folder: &Path, primary: &Cable) -> Self {
        let (port, from) = (free_port(), primary.port.to_string());
        let folder = folder.join("standby");
        let path = folder.to_str().expect("a path in UTF-8");
        let is_redis = store == "redis";
        let mut command = if is_redis {
            std::fs::create_dir(&folder).expect("a folder");
            let mut redis = Command::new("redis-server");
            redis.args(["--port", &port.to_string(), "--bind", "127.0.0.1", "--databases", "1000", "--save", ""]);
            redis.args(["--dir", path, "--replicaof", "127.0.0.1", &from]);
            redis
        } else {
            let copied = as_user(&postgres_program("pg_basebackup").expect("pg_basebackup beside postgres"))
                .args(["-h", "127.0.0.1", "-p", &from, "-U", "hill", "-D", path, "-R", "-X", "stream", "-c", "fast"])
                .status();
            assert!(copied.expect("pg_basebackup").success());
            let mut postgres = as_user(&postgres_program("postgres").expect("postgres"));
            postgres.args(["-D", path, "-p", &port.to_string(), "-c", "listen_addresses=127.0.0.1"]);
            postgres.args(["-c", &format!("unix_socket_directories={path}"), "-c", "max_connections=300"]);
            postgres
        };
        let process = command.current_dir("/").stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("a standby");
        let standby = Self { process, folder, port, is_redis };
        standby.follows();
        standby
    }

    /// Waits until it has all that there is; from then on it hears of everything at once.
    fn follows(&self) {
        let port = self.port.to_string();
        let deadline = Instant::now() + Duration::from_secs(60);
        loop {
            let (mut command, sign) = if self.is_redis {
                let mut cli = Command::new("redis-cli");
                cli.args(["-p", &port, "info", "replication"]);
                (cli, "master_link_status:up")
            } else {
                let mut psql = Command::new("psql");
                psql.args(["-h", "127.0.0.1", "-p", &port, "-U", "hill", "-tA", "-d", "postgres", "-c"]);
                psql.arg("SELECT 'state:' || status FROM pg_stat_wal_receiver");
                (psql, "state:streaming")
            };
            let told = command.output().expect("the standby is asked").stdout;
            if String::from_utf8_lossy(&told).contains(sign) {
                return;
            }
            assert!(Instant::now() < deadline, "the standby follows");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Makes it the primary.
    fn promote(&self) {
        let path = self.folder.to_str().expect("a path in UTF-8");
        let mut command = if self.is_redis {
            let mut cli = Command::new("redis-cli");
            cli.args(["-p", &self.port.to_string(), "replicaof", "no", "one"]);
            cli
        } else {
            let mut control = as_user(&postgres_program("pg_ctl").expect("pg_ctl beside postgres"));
            control.args(["promote", "-D", path]);
            control
        };
        assert!(command.current_dir("/").stdout(Stdio::null()).status().expect("a promotion").success());
    }
}

impl Drop for Standby {
    fn drop(&mut self) {
        // PostgreSQL's children end with their parent's files.
        let _ = Command::new("pkill").args(["-KILL", "-P", &self.process.id().to_string()]).status();
        let _ = (self.process.kill(), self.process.wait());
    }
}

fn as_user(program: &Path) -> Command {
    let words = as_postgres(program);
    let mut command = Command::new(&words[0]);
    command.args(&words[1..]);
    command
}

async fn signed_in(caller: &Caller) -> Vec<Pair> {
    let mut pairs = Vec::new();
    for _ in 0..EACH {
        pairs.push(caller.sign_in("obs-0017").await);
    }
    pairs
}

/// At how many instances these are still let in, or renewed.
async fn alive(instances: &[Instance], pairs: &[Pair]) -> (usize, usize) {
    let (mut let_in, mut renewed) = (0, 0);
    for instance in instances {
        for (access, _) in pairs {
            let status = instance.caller().status(Method::GET, "/me", access).await;
            let_in += usize::from(matches!(status, Ok(200)));
        }
    }
    for (_, refresh) in pairs {
        renewed += usize::from(matches!(instances[1].caller().renew(refresh).await, Ok((200, _))));
    }
    (let_in, renewed)
}

pub(crate) async fn drill(store: &'static str, with_loss: bool) -> Option<Outcome> {
    let mut site = Site::on(store).await?;
    let replication = Cable::to(site.server.as_ref().expect("a server").port).await;
    let standby = Standby::of(store, site.standby_folder(), &replication);
    let instances = [site.instance(), site.instance_that_knows(standby.port)];
    let caller = instances[0].caller();
    let (before, after, kept) = (signed_in(&caller).await, signed_in(&caller).await, signed_in(&caller).await);
    // The standby catches up.
    sleep(Duration::from_secs(3)).await;
    if with_loss {
        replication.cut();
    }
    for (_, refresh) in &before {
        assert!(matches!(caller.revoke(refresh).await, Ok((200, _))), "signed out");
    }
    let mut tokens: Vec<_> = kept.into_iter().map(|(_, refresh)| refresh).collect();
    for token in &mut tokens {
        // Twice, so that what the standby knows is spent.
        for _ in 0..2 {
            let (_, reply) = caller.renew(token).await.expect("an answer");
            *token = reply["refresh_token"].as_str().expect("a token").to_owned();
        }
    }
    sleep(Duration::from_secs(2)).await;
    site.server.as_mut().expect("a server").signal("KILL");
    standby.promote();
    site.cable.as_ref().expect("a cable").lead_to(standby.port);
    let over_at = Instant::now();
    for (number, token) in tokens.iter_mut().enumerate() {
        loop {
            match instances[number % 2].caller().renew(token).await {
                Ok((200, _)) => break,
                Ok((503, _)) | Err(_) if over_at.elapsed() < WORKS_AGAIN_WITHIN * 2 => {
                    sleep(Duration::from_millis(100)).await;
                }
                other => {
                    let line = format!("{store}: fail-over: an honest client gets {other:?}");
                    return Some(Outcome { line, kept: false });
                }
            }
        }
    }
    let again = over_at.elapsed();
    for (_, refresh) in &after {
        assert!(matches!(caller.revoke(refresh).await, Ok((200, _))), "signed out");
    }
    sleep(KNOWN_AGAIN_WITHIN).await;
    let (lost, missed) = (alive(&instances, &before).await, alive(&instances, &after).await);
    let line = format!(
        "{store}: fail-over {} loss: works again after {again:.1?}; of {EACH} signed out before it {} are let in and {} \
         renewed; of {EACH} signed out after it {} and {}",
        if with_loss { "with" } else { "without" },
        lost.0,
        lost.1,
        missed.0,
        missed.1,
    );
    let is_kept = [lost, missed] == [(0, 0); 2] && again <= WORKS_AGAIN_WITHIN;
    Some(Outcome { line, kept: is_kept })
}
