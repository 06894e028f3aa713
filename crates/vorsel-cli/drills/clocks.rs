//! Instances whose clocks are apart, as far as is stated and further.

use std::fs;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use reqwest::Method;
use tokio::time::sleep;

use crate::instance::{Answer, Caller, Instance};
use crate::{Outcome, Site};

const EACH: usize = 10;
/// More than the retry window of 10 seconds.
const LATER: Duration = Duration::from_secs(12);

/// A host whose clock is off.
struct Host {
    off_by: i64,
    instance: Instance,
    log: PathBuf,
}

impl Host {
    fn of(site: &Site, off_by: i64) -> Self {
        let log = site.folder.path().join(format!("log{off_by}"));
        let file = fs::File::create(&log).expect("a file");
        let keys = site.folder.path().join("keys").display().to_string();
        let arguments = ["--store", &site.store, "--keys", &keys];
        let instance = Instance::begun(command(off_by), file.into(), "127.0.0.1:0", &arguments);
        Self { off_by, instance, log }
    }

    fn ends_before_now(&self, site: &Site) {
        let mut end = command(self.off_by);
        end.args(["sessions", "end", "--store", &site.store, "--before", "now"]);
        assert!(end.stdout(Stdio::null()).status().expect("the command").success());
    }

    fn says_so(&self) -> bool {
        let log = fs::read_to_string(&self.log).expect("a log");
        log.contains("expected clocks at most 30 s apart, but found this machine's")
    }
}

/// The command on such a host. Only what it takes for the date is off, not how fast time goes by.
fn command(off_by: i64) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_vorsel"));
    command.env("LD_PRELOAD", library().expect("faketime")).env("FAKETIME", format!("{off_by:+}s"));
    command.env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
    command
}

/// The library that tells another date, where Debian has it. Its command would leave the process it starts behind.
fn library() -> Option<PathBuf> {
    let machines = fs::read_dir("/usr/lib").ok()?.flatten();
    machines.map(|machine| machine.path().join("faketime/libfaketime.so.1")).find(|path| path.exists())
}

fn is_installed() -> bool {
    let is_there = library().is_some();
    assert!(is_there || std::env::var_os("VORSEL_TEST_ALL").is_none(), "the drill of clocks needs Debian's faketime");
    is_there
}

/// What should not be.
#[derive(Default)]
struct Broken {
    /// Renewed in time, or again in time, and not given a pair or not the same one.
    signed_out: usize,
    /// A spent token that was let through after the window, or whose session lived on.
    let_through: usize,
    /// Ended elsewhere, and let in or renewed here.
    missed: usize,
    /// An access token of the other that was not let in.
    refused: usize,
}

/// Ten seconds' window and clocks further apart than that: each promise, with every step on the other instance.
pub(crate) async fn drill(store: &'static str, apart: i64) -> Option<Outcome> {
    if !is_installed() {
        return None;
    }
    let site = Site::on(store).await?;
    let (ahead, behind) = (apart / 2, apart / 2 - apart);
    let hosts = [ahead, behind].map(|off_by| Host::of(&site, off_by));
    let mut broken = Broken::default();
    for [one, other] in [[0, 1], [1, 0]].map(|pair| pair.map(|place| &hosts[place])) {
        one_way(&site, one, other, &mut broken).await;
    }
    let told = hosts.iter().filter(|host| host.says_so()).count();
    let outside = [ahead, behind].iter().filter(|off| off.unsigned_abs() > 30).count();
    let Broken { signed_out, let_through, missed, refused } = broken;
    let line = format!(
        "{store}: clocks {apart} s apart: of {} signed out for a token in time {signed_out}, replays let through {let_through}, \
         ends missed {missed}, access tokens of the other refused {refused}; {told} of {outside} instances outside say so",
        EACH * 2
    );
    // Whoever checks by a clock that is further off than stated refuses what is issued ahead of it.
    let is_kept = [signed_out, let_through, missed] == [0; 3] && told == outside && (outside > 0 || refused == 0);
    Some(Outcome { line, kept: is_kept })
}

fn is_same(first: &Answer, again: &Answer) -> bool {
    let (Ok((200, first)), Ok((200, again))) = (first, again) else { return false };
    first["refresh_token"] == again["refresh_token"]
}

async fn one_way(site: &Site, host: &Host, other: &Host, broken: &mut Broken) {
    let (one, other): (Caller, Caller) = (host.instance.caller(), other.instance.caller());
    let (mut spent, mut ended, mut before) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..EACH {
        let (access, refresh) = one.sign_in("obs-0017").await;
        let first = other.renew(&refresh).await;
        let again = one.renew(&refresh).await;
        broken.signed_out += usize::from(!is_same(&first, &again));
        broken.refused += usize::from(other.status(Method::GET, "/me", &access).await.ok() != Some(200));
        let current = again.map(|(_, reply)| reply["refresh_token"].as_str().unwrap_or_default().to_owned());
        spent.push((refresh, current.unwrap_or_default()));
        let pair = one.sign_in("obs-0017").await;
        assert!(matches!(other.revoke(&pair.1).await, Ok((200, _))), "signed out");
        ended.push(pair);
        before.push(other.sign_in("dir-0001").await);
    }
    sleep(LATER).await;
    for (spent, current) in spent {
        let replayed = other.renew(&spent).await;
        let after = one.renew(&current).await;
        broken.let_through += usize::from(!matches!((replayed, after), (Ok((400, _)), Ok((400, _)))));
    }
    host.ends_before_now(site);
    // The guard of the other hears of it.
    sleep(Duration::from_secs(1)).await;
    for (access, refresh) in ended.into_iter().chain(before) {
        for caller in [&one, &other] {
            let let_in = caller.status(Method::GET, "/me", &access).await.ok() == Some(200);
            let renewed = matches!(caller.renew(&refresh).await, Ok((200, _)));
            broken.missed += usize::from(let_in || renewed);
        }
    }
}
