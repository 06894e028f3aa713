//! Private PostgreSQL and Redis servers on free ports in temporary folders. They stop with the process that started them,
//! however it ends.
#![allow(dead_code, reason = "each test uses its part")]

use std::fs;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use tempfile::TempDir;

/// A server, and the shell of each of its starts, which ends it as soon as its standard input is closed.
pub(crate) struct Server {
    shells: Vec<Child>,
    folder: TempDir,
    pub(crate) port: u16,
    kind: Kind,
    first_database: OnceLock<String>,
    /// Arguments of its own.
    more: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Postgres,
    Redis,
}

/// An attempt to start takes this long at most; a port may be taken meanwhile, or the files still be held by what was
/// killed.
const START_WITHIN: Duration = Duration::from_secs(20);
const ATTEMPTS: u32 = 4;
/// Runs what it is given, until there is nobody any more who holds the other end of its standard input.
const UNTIL_ABANDONED: &str = r#""$@" </dev/null >"$LOG" 2>&1 & server=$!; cat >/dev/null; kill -9 $server 2>/dev/null; [ -n "$PIDFILE" ] && kill -9 $(head -n 1 "$PIDFILE") 2>/dev/null; rm -rf "$FOLDER""#;

/// A server for the tests of this process, or nothing where its program is not installed. With `VORSEL_TEST_ALL` that is
/// a failure.
pub(crate) fn shared(kind: Kind) -> Option<&'static Server> {
    static POSTGRES: OnceLock<Option<Server>> = OnceLock::new();
    static REDIS: OnceLock<Option<Server>> = OnceLock::new();
    let server = match kind {
        Kind::Postgres => &POSTGRES,
        Kind::Redis => &REDIS,
    };
    server.get_or_init(|| start(kind)).as_ref()
}

/// A server of the test's own, to be killed and started again.
pub(crate) fn start(kind: Kind) -> Option<Server> {
    start_with(kind, |_| Vec::new())
}

/// [`start`] with arguments that `more` makes in the server's folder.
pub(crate) fn start_with(kind: Kind, more: impl FnOnce(&Path) -> Vec<String>) -> Option<Server> {
    let program = match kind {
        Kind::Postgres => postgres_program("postgres"),
        Kind::Redis => in_path("redis-server"),
    };
    if program.is_none() {
        let package = if kind == Kind::Postgres { "postgresql" } else { "redis-server" };
        let left_out = format!("{kind:?} is not installed; its tests need Debian's package {package}");
        assert!(std::env::var_os("VORSEL_TEST_ALL").is_none(), "{left_out}");
        // Not by a macro, whose output is only shown for tests that fail.
        static SAID: [std::sync::Once; 2] = [const { std::sync::Once::new() }; 2];
        SAID[kind as usize].call_once(|| drop(writeln!(std::io::stderr(), "left out: {left_out}")));
    }
    let program = program?;
    let folder = tempfile::tempdir().expect("a folder");
    if kind == Kind::Postgres {
        make_cluster(folder.path());
    }
    let more = more(folder.path());
    let mut server = Server { shells: Vec::new(), folder, port: 0, kind, first_database: OnceLock::new(), more };
    for _ in 0..ATTEMPTS {
        server.port = free_port();
        if server.comes_up(&program) {
            return Some(server);
        }
    }
    panic!("{kind:?} does not start: {}", server.log());
}

fn in_path(program: &str) -> Option<PathBuf> {
    std::env::split_paths(&std::env::var_os("PATH")?).map(|folder| folder.join(program)).find(|path| path.exists())
}

/// Debian keeps them out of the path.
pub(crate) fn postgres_program(name: &str) -> Option<PathBuf> {
    let versions = fs::read_dir("/usr/lib/postgresql").ok()?;
    let paths = versions.flatten().map(|version| version.path().join("bin").join(name));
    paths.filter(|path| path.exists()).max().or_else(|| in_path(name))
}

pub(crate) fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a free port").port()
}

pub(crate) fn is_root() -> bool {
    let id = Command::new("id").arg("-u").output().expect("id");
    id.stdout.starts_with(b"0\n")
}

/// PostgreSQL refuses to run as root, so root runs it as the user its package made.
pub(crate) fn as_postgres(program: &Path) -> Vec<String> {
    let program = program.to_str().expect("a path in UTF-8").to_owned();
    if !is_root() {
        return vec![program];
    }
    let command = ["setpriv", "--reuid=postgres", "--regid=postgres", "--init-groups"].map(str::to_owned);
    command.into_iter().chain([program]).collect()
}

fn make_cluster(folder: &Path) {
    if is_root() {
        let owner = Command::new("chown").arg("postgres:").arg(folder).status().expect("chown");
        assert!(owner.success());
    }
    let program = as_postgres(&postgres_program("initdb").expect("initdb beside postgres"));
    let mut command = Command::new(&program[0]);
    command
        .args(&program[1..])
        .arg("-D")
        .arg(folder.join("data"))
        .args(["-U", "hill", "-A", "trust", "-N", "-E", "UTF8"]);
    let made = command.current_dir("/").output().expect("initdb");
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

fn spawn(kind: Kind, program: &Path, folder: &Path, port: u16, more: &[String]) -> Child {
    let text = |path: PathBuf| path.to_str().expect("a path in UTF-8").to_owned();
    let port = port.to_string();
    let arguments: Vec<String> = match kind {
        Kind::Postgres => {
            let mut arguments = as_postgres(program);
            arguments.extend(["-D".to_owned(), text(folder.join("data")), "-p".to_owned(), port]);
            for setting in [
                "listen_addresses=127.0.0.1".to_owned(),
                format!("unix_socket_directories={}", text(folder.to_owned())),
                "max_connections=300".to_owned(),
                "log_statement=all".to_owned(),
            ] {
                arguments.extend(["-c".to_owned(), setting]);
            }
            arguments
        }
        Kind::Redis => {
            let arguments = [&text(program.to_owned()), "--port", &port, "--bind", "127.0.0.1", "--save", ""];
            let durable = ["--appendonly", "yes", "--appendfsync", "always", "--loglevel", "verbose"];
            let folders =
                ["--databases", "1000", "--dir", &text(folder.to_owned()), "--pidfile", &text(folder.join("pid"))];
            arguments.iter().chain(&durable).chain(&folders).map(|argument| (*argument).to_owned()).collect()
        }
    };
    let pid_file = if kind == Kind::Postgres { text(folder.join("data/postmaster.pid")) } else { String::new() };
    Command::new("sh")
        .args(["-c", UNTIL_ABANDONED, "sh"])
        .args(arguments)
        .args(more)
        .env("LOG", folder.join("log"))
        .env("FOLDER", folder)
        .env("PIDFILE", pid_file)
        .current_dir("/")
        .stdin(Stdio::piped())
        .spawn()
        .expect("sh")
}

impl Server {
    fn comes_up(&mut self, program: &Path) -> bool {
        self.shells.push(spawn(self.kind, program, self.folder.path(), self.port, &self.more));
        let deadline = Instant::now() + START_WITHIN;
        while !self.is_ready() {
            if Instant::now() > deadline {
                return false;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        true
    }

    fn is_ready(&self) -> bool {
        match self.kind {
            Kind::Postgres => {
                let ready = Command::new(postgres_program("pg_isready").expect("pg_isready beside postgres"))
                    .args(["-q", "-h", "127.0.0.1", "-d", "postgres", "-U", "hill", "-p", &self.port.to_string()])
                    .status();
                ready.is_ok_and(|status| status.success())
            }
            Kind::Redis => {
                let answer = TcpStream::connect(("127.0.0.1", self.port)).and_then(|mut stream| {
                    stream.write_all(b"PING\r\n")?;
                    let mut answer = [0; 5];
                    stream.read_exact(&mut answer)?;
                    Ok(answer)
                });
                answer.is_ok_and(|answer| answer == *b"+PONG")
            }
        }
    }

    /// What the server has logged.
    pub(crate) fn log(&self) -> String {
        fs::read(self.folder.path().join("log"))
            .map(|log| String::from_utf8_lossy(&log).into_owned())
            .unwrap_or_default()
    }

    /// The database of this address as SQL.
    pub(crate) fn dump(&self, url: &str) -> Vec<u8> {
        let dump = Command::new(postgres_program("pg_dump").expect("pg_dump beside postgres")).arg(url).output();
        let dump = dump.expect("pg_dump");
        assert!(dump.status.success(), "{}", String::from_utf8_lossy(&dump.stderr));
        dump.stdout
    }

    /// Where its files are.
    pub(crate) fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// The address of an empty database on this server.
    pub(crate) fn empty_database(&self) -> String {
        static COUNT: AtomicU32 = AtomicU32::new(0);
        let number = COUNT.fetch_add(1, Ordering::Relaxed);
        let port = self.port;
        match self.kind {
            Kind::Postgres => {
                let name = format!("hill{}_{number}", std::process::id());
                let made = Command::new(postgres_program("createdb").expect("createdb beside postgres"))
                    .args(["-h", "127.0.0.1", "-U", "hill", "-p", &port.to_string(), &name])
                    .output()
                    .expect("createdb");
                assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
                let _ = self.first_database.set(name.clone());
                format!("postgres://hill@127.0.0.1:{port}/{name}")
            }
            Kind::Redis => format!("redis://127.0.0.1:{port}/{number}"),
        }
    }

    /// Kills the server with SIGKILL and starts it again on the same files and port.
    pub(crate) fn crash(&mut self) {
        self.signal("KILL");
        self.start_again();
    }

    /// Sends a signal to all of its processes.
    pub(crate) fn signal(&self, signal: &str) {
        let pid = match self.kind {
            Kind::Postgres => fs::read_to_string(self.folder.path().join("data/postmaster.pid")).expect("a pid file"),
            Kind::Redis => fs::read_to_string(self.folder.path().join("pid")).expect("a pid file"),
        };
        let pid = pid.lines().next().expect("a pid").to_owned();
        let children = Command::new("pgrep").args(["-P", &pid]).output().expect("pgrep").stdout;
        let children = String::from_utf8_lossy(&children).into_owned();
        let sent = Command::new("kill").arg(format!("-{signal}")).arg(&pid).args(children.lines()).status();
        assert!(sent.expect("kill").success() || signal == "KILL");
    }

    /// The database that was made first.
    pub(crate) fn first_database(&self) -> &str {
        self.first_database.get().expect("a database")
    }

    /// Starts it again on the same files and port.
    pub(crate) fn start_again(&mut self) {
        let program = match self.kind {
            Kind::Postgres => postgres_program("postgres"),
            Kind::Redis => in_path("redis-server"),
        };
        // The shell of the start before stays: closing its input would take the folder along.
        let program = program.expect("it was there");
        let is_up = (0..ATTEMPTS).any(|_| {
            std::thread::sleep(Duration::from_millis(300));
            self.comes_up(&program)
        });
        assert!(is_up, "{:?} does not start again: {}", self.kind, self.log());
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.shells.iter_mut().for_each(|shell| drop(shell.stdin.take()));
        self.shells.iter_mut().for_each(|shell| drop(shell.wait()));
    }
}
