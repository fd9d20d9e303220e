//! What the tests of the binary share: a started service, and its client.
#![allow(dead_code, clippy::unwrap_used)]

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// The binary under test.
pub fn binary() -> PathBuf {
    PathBuf::from(env!("CARGO_BIN_EXE_eager-tide"))
}

/// A started process whose lines are kept.
pub struct Running {
    pub child: Child,
    pub lines: Arc<Mutex<Vec<String>>>,
}

impl Running {
    /// Starts the binary and keeps what it prints.
    pub fn start(arguments: &[&str]) -> Running {
        Running::start_within(arguments, &[])
    }

    /// The same, with variables in its environment.
    pub fn start_within(arguments: &[&str], environment: &[(&str, &str)]) -> Running {
        let mut child = Command::new(binary())
            .args(arguments)
            .envs(environment.iter().copied())
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the binary starts");
        let lines: Arc<Mutex<Vec<String>>> = Arc::default();
        let streams: [Box<dyn std::io::Read + Send>; 2] = [
            Box::new(child.stdout.take().unwrap()),
            Box::new(child.stderr.take().unwrap()),
        ];
        for stream in streams {
            let kept = lines.clone();
            std::thread::spawn(move || {
                for line in BufReader::new(stream).lines().map_while(Result::ok) {
                    kept.lock().unwrap().push(line);
                }
            });
        }
        Running { child, lines }
    }

    /// Waits for a line with a text, and returns it.
    pub fn line(&self, text: &str) -> String {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(180) {
            if let Some(line) = self
                .lines
                .lock()
                .unwrap()
                .iter()
                .find(|line| line.contains(text))
            {
                return line.clone();
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        panic!("no line with `{text}` in {:#?}", self.lines.lock().unwrap());
    }

    /// Ends the process at once, without a word to it.
    pub fn kill(&mut self) {
        self.child.kill().expect("killed");
        self.child.wait().expect("gone");
    }

    /// Asks the process to end, and waits for it.
    pub fn terminate(&mut self) -> std::process::ExitStatus {
        Command::new("kill")
            .arg(self.child.id().to_string())
            .status()
            .expect("asked");
        self.child.wait().expect("gone")
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A service on a data folder.
pub struct Service {
    pub running: Running,
    pub url: String,
    pub token: String,
}

impl Service {
    pub fn start(data: &Path) -> Service {
        Service::start_with(data, &[], &[])
    }

    /// The same, with more arguments, and variables in its environment.
    pub fn start_with(data: &Path, more: &[&str], environment: &[(&str, &str)]) -> Service {
        let arguments = [
            &[
                "serve",
                "--listen",
                "127.0.0.1:0",
                "--data",
                data.to_str().unwrap(),
            ],
            more,
        ]
        .concat();
        let running = Running::start_within(&arguments, environment);
        let line = running.line("Eager Tide is up");
        let at = line.find("http://").expect("an address");
        let url = line[at..]
            .split(['/', ' ', '"'])
            .nth(2)
            .map(|host| format!("http://{host}"))
            .unwrap();
        let token = std::fs::read_to_string(data.join("first-token"))
            .expect("a first token")
            .trim()
            .to_owned();
        Service {
            running,
            url,
            token,
        }
    }

    /// Runs the client.
    pub fn client(&self, arguments: &[&str]) -> Output {
        client(&self.url, &self.token, arguments, "")
    }

    /// Runs the client, which must succeed, and reads its JSON.
    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        let output = self.client(&[arguments, &["-o", "json"]].concat());
        serde_json::from_slice(&output.stdout)
            .unwrap_or_else(|_| panic!("{arguments:?}: {}", text(&output)))
    }
}

/// Runs the client against an address.
pub fn client(url: &str, token: &str, arguments: &[&str], input: &str) -> Output {
    use std::io::Write;
    let mut child = Command::new(binary())
        .args(arguments)
        .env("EAGER_TIDE_URL", url)
        .env("EAGER_TIDE_TOKEN", token)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the client starts");
    child
        .stdin
        .take()
        .unwrap()
        .write_all(input.as_bytes())
        .unwrap();
    child.wait_with_output().expect("the client ends")
}

/// What a process printed, on both streams.
pub fn text(output: &Output) -> String {
    format!(
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    )
}

/// What the client says, which must end with this code.
pub fn said(service: &Service, arguments: &[&str], code: i32) -> String {
    let output = service.client(arguments);
    let said = text(&output);
    assert_eq!(output.status.code(), Some(code), "{arguments:?}: {said}");
    said
}

/// An answer that holds all of these.
pub fn holds(said: &str, parts: &[&str]) {
    let missing: Vec<_> = parts.iter().filter(|part| !said.contains(**part)).collect();
    assert!(missing.is_empty(), "{missing:?} in: {said}");
}

/// Adds the demo's two systems to a service and publishes the demo's rules.
pub fn connect(
    service: &Service,
    harbour: &tide_standins::directory::Directory,
    berthing: &tide_standins::scim_service::ScimService,
    folder: &Path,
) {
    let added = client(
        &service.url,
        &service.token,
        &[
            "systems",
            "add",
            "harbour",
            "--kind",
            "ldap",
            "--address",
            &harbour.url,
            "--bind-dn",
            &harbour.admin_dn,
            "--base-dn",
            tide_standins::world::BASE,
        ],
        &harbour.password,
    );
    assert!(added.status.success(), "{}", text(&added));
    let added = client(
        &service.url,
        &service.token,
        &[
            "systems",
            "add",
            "berthing",
            "--kind",
            "scim",
            "--address",
            &berthing.url,
            "--visible-after",
            "1",
        ],
        &berthing.token,
    );
    assert!(added.status.success(), "{}", text(&added));
    let rules = folder.join("rules");
    std::fs::create_dir_all(&rules).unwrap();
    for (name, text) in tide_standins::world::rules_of_people() {
        std::fs::write(rules.join(name), text).unwrap();
    }
    let published = service.client(&["rules", "publish", rules.to_str().unwrap()]);
    assert!(published.status.success(), "{}", text(&published));
}

/// An HTTP client that takes a new connection for each request: one that the service has just
/// closed is no failure of what comes next. The TLS provider is installed once; a second call says
/// that it is there.
pub fn http() -> reqwest::Client {
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .tls_backend_rustls()
        .no_proxy()
        .pool_max_idle_per_host(0)
        .build()
        .unwrap()
}
