//! Every command line in README and docs is run, and every help text is as it was last read.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

mod common;
use common::vorsel;
#[path = "common/instance.rs"]
mod instance;
use instance::Instance;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn pages() -> Vec<(String, String)> {
    let docs = fs::read_dir(root().join("docs")).expect("the docs").map(|entry| entry.expect("a file").path());
    let docs = docs.filter(|path| path.extension().is_some_and(|end| end == "md"));
    let all = [root().join("README.md")].into_iter().chain(docs);
    let mut pages: Vec<_> =
        all.map(|path| (path.display().to_string(), fs::read_to_string(&path).expect("a page"))).collect();
    pages.sort();
    pages
}

/// The lines of a page's shell blocks that call the command.
fn calls(page: &str) -> Vec<String> {
    let mut calls = Vec::new();
    for block in page.split("```sh\n").skip(1) {
        let block = block.split("```").next().unwrap_or_default();
        calls.extend(
            block.lines().filter(|line| line.contains("cargo run --release -- ") || is_call(line)).map(str::to_owned),
        );
    }
    calls
}

fn is_call(line: &str) -> bool {
    line.starts_with("vorsel ") || line.contains("| vorsel ")
}

fn run(line: &str, folder: &Path) -> (i32, String) {
    let output = Command::new("sh")
        .args(["-c", line])
        .current_dir(folder)
        .env("VORSEL", env!("CARGO_BIN_EXE_vorsel"))
        .env_remove("VORSEL_PLAN")
        .output()
        .expect("a shell");
    let said = [output.stdout, output.stderr].concat();
    (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&said).into_owned())
}

#[test]
fn every_command_line_in_readme_and_docs_does_what_it_says() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = |name: &str| folder.path().join(name).display().to_string();
    fs::create_dir(folder.path().join("demo")).expect("a folder");
    for name in ["access.toml", "clients.toml", "openapi.json", "people.toml", "vorsel.toml"] {
        fs::copy(root().join("demo").join(name), folder.path().join("demo").join(name)).expect("a file");
    }
    // An evening at the observatory leaves keys and a session.
    let store = format!("sqlite:{}", path("sessions.sqlite"));
    let server = Instance::listening("127.0.0.1:0", &["--store", &store, "--keys", &path("keys")]);
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    runtime.block_on(server.caller().sign_in("obs-0017"));
    drop(server);
    let keys = vorsel(&["keys", "list", "--keys", &path("keys"), "--json"]).json();
    let sessions = vorsel(&["sessions", "list", "--store", &store, "--json"]).json();
    let key_id = keys["access"]["keys"][0]["kid"].as_str().expect("a key").to_owned();
    let text = sessions.to_string();
    let session =
        text.split("\"session\":\"").nth(1).and_then(|rest| rest.split('"').next()).expect("a session").to_owned();

    let mut count = 0;
    for (page, text) in pages() {
        for line in calls(&text) {
            let call = line
                .replace("cargo run --release -- ", "\"$VORSEL\" ")
                .replace("| vorsel ", "| \"$VORSEL\" ")
                .replace("FOLDER", "keys")
                .replace("KEY_ID", &key_id)
                .replace(" SESSION ", &format!(" {session} "));
            let call = call.strip_prefix("vorsel ").map_or(call.clone(), |rest| format!("\"$VORSEL\" {rest}"));
            let (status, said) = run(&call, folder.path());
            // Where the answer is no, as for a token for somebody else, it is 1.
            let is_no = line.contains("explain") || line.contains("plan ask");
            assert!(status == 0 || status == 1 && is_no, "{page}: {line}\n{status}: {said}");
            count += 1;
        }
    }
    assert!(count >= 18, "{count} calls were found");
}

/// The subcommands of a command, from its help.
fn subcommands(help: &str) -> Vec<String> {
    let Some(list) = help.split("Commands:\n").nth(1) else { return Vec::new() };
    let names = list.lines().take_while(|line| line.starts_with("  ")).filter_map(|line| {
        let name = line.strip_prefix("  ")?.split(' ').next()?;
        (!name.is_empty() && name != "help").then(|| name.to_owned())
    });
    names.collect()
}

fn helps(command: &[String], all: &mut Vec<(String, String)>) {
    let arguments: Vec<&str> = command.iter().map(String::as_str).chain(["--help"]).collect();
    let done = vorsel(&arguments);
    assert_eq!(done.status, 0, "{done:?}");
    for inner in subcommands(&done.out) {
        helps(&[command, &[inner]].concat(), all);
    }
    all.push((
        ["vorsel"].into_iter().chain(command.iter().map(String::as_str)).collect::<Vec<_>>().join("-"),
        done.out,
    ));
}

#[test]
fn every_help_text_is_as_it_was_last_read() {
    let mut all = Vec::new();
    helps(&[], &mut all);
    assert!(all.len() >= 22, "{}", all.len());
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/help");
    let known: BTreeSet<String> = fs::read_dir(&folder)
        .expect("the texts")
        .map(|entry| entry.expect("a file").file_name().to_string_lossy().into_owned())
        .collect();
    let assert = snapbox::Assert::new().action_env("SNAPSHOTS");
    for (name, help) in &all {
        assert.eq(help.as_str(), snapbox::Data::read_from(&folder.join(format!("{name}.txt")), None));
    }
    let gone: Vec<_> =
        known.iter().filter(|file| !all.iter().any(|(name, _)| **file == format!("{name}.txt"))).collect();
    assert!(gone.is_empty(), "texts of commands that are not there: {gone:?}");
}

#[test]
fn every_option_that_a_page_names_is_one_of_its_command() {
    let mut all = Vec::new();
    helps(&[], &mut all);
    let help_of = |words: &[&str]| {
        let name = ["vorsel"].iter().chain(words).copied().collect::<Vec<_>>().join("-");
        all.iter().find(|(known, _)| *known == name).map(|(_, help)| help)
    };
    let mut count = 0;
    for (page, text) in pages() {
        for call in text.split('`').filter(|piece| piece.starts_with("vorsel ") && !piece.contains('\n')) {
            let words: Vec<&str> = call.split(' ').skip(1).filter(|word| !word.is_empty()).collect();
            let words: Vec<&str> = match words.first() {
                Some(&"--settings") => words[2.min(words.len())..].to_vec(),
                _ => words,
            };
            let Some(first) = words.first() else { continue };
            let help = words.get(1).and_then(|second| help_of(&[first, second])).or_else(|| help_of(&[first]));
            let help = help.unwrap_or_else(|| panic!("{page}: there is no command `{call}`"));
            for option in words.iter().map(|word| word.trim_start_matches('[')).filter(|word| word.starts_with("--")) {
                assert!(help.contains(option), "{page}: `{call}` has no {option}");
                count += 1;
            }
        }
    }
    assert!(count >= 5, "{count}");
}
