//! How a store stands still.

use std::io::Write;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use tokio::time::sleep;

use crate::Site;

#[derive(Clone, Copy, Debug)]
pub(crate) enum How {
    /// Its processes are stopped, and go on.
    Stop,
    /// It is killed, and started again.
    Kill,
    /// Somebody holds what every renewal needs.
    Lock,
    /// Nothing gets through, and what was sent arrives late.
    CutLink,
}

#[derive(Clone, Copy, Debug)]
pub(crate) struct Fault {
    pub(crate) how: How,
    pub(crate) lasting: Duration,
}

/// The faults that a store can have.
pub(crate) fn of(store: &str, is_long: bool) -> Vec<Fault> {
    let ways: &[How] = match store {
        "sqlite" => &[How::Lock],
        "postgres" => &[How::Stop, How::Kill, How::Lock, How::CutLink],
        _ => &[How::Stop, How::Kill, How::CutLink],
    };
    let seconds: &[u64] = if is_long { &[7, 12, 30] } else { &[12] };
    let every = seconds.iter().flat_map(|seconds| ways.iter().map(move |how| (*how, *seconds)));
    every.map(|(how, seconds)| Fault { how, lasting: Duration::from_secs(seconds) }).collect()
}

impl Fault {
    /// Has it, from its beginning to its end.
    pub(crate) async fn happen(self, site: &mut Site) {
        match self.how {
            How::Stop => {
                let server = site.server.as_ref().expect("a server");
                server.signal("STOP");
                sleep(self.lasting).await;
                server.signal("CONT");
            }
            How::Kill => {
                let server = site.server.as_mut().expect("a server");
                server.signal("KILL");
                sleep(self.lasting).await;
                server.start_again();
            }
            How::Lock => {
                let mut holder = hold(site, "LOCK TABLE vorsel_sessions IN ACCESS EXCLUSIVE MODE");
                sleep(self.lasting).await;
                drop(holder.stdin.take());
                holder.wait().expect("the end of the lock");
            }
            How::CutLink => {
                let cable = site.cable.as_ref().expect("a cable");
                cable.cut();
                sleep(self.lasting).await;
                cable.mend();
            }
        }
    }
}

/// A process that holds what the statement takes, or the whole file, until its input is closed.
pub(crate) fn hold(site: &Site, statement: &str) -> Child {
    let mut command = match &site.server {
        Some(server) => {
            let mut psql = Command::new("psql");
            psql.args(["-q", "-h", "127.0.0.1", "-p", &server.port.to_string(), "-U", "hill", server.first_database()]);
            psql
        }
        None => {
            let mut python = Command::new("python3");
            let script = "import sqlite3, sys\nc = sqlite3.connect(sys.argv[1], isolation_level=None)\nc.execute('PRAGMA busy_timeout = 20000')\nc.execute('BEGIN IMMEDIATE')\nsys.stdin.read()\nc.execute('ROLLBACK')";
            python.args(["-c", script, site.file()]);
            python
        }
    };
    let mut holder = command.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().expect("a holder");
    if site.server.is_some() {
        let input = holder.stdin.as_mut().expect("its input");
        writeln!(input, "BEGIN; {statement};").expect("a statement");
    }
    holder
}
