//! A real browser, driven through WebDriver.

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::time::Duration;

use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use rustix::process::{Pid, Signal, kill_process};

use crate::support::{PATIENCE, World, family, until};

/// Chromium, driven through WebDriver, with a fresh profile. Dropped, it is ended, and all that it started.
pub(crate) struct Browser {
    driver: Driver,
    pub(crate) client: Client,
    _profile: tempfile::TempDir,
}

/// The program that drives the browser, and the browser with all its processes.
struct Driver(Child);

impl Driver {
    /// Starts it at a port that it chooses and tells; answers its address.
    fn start() -> (Self, String) {
        (0..20).find_map(|_| Self::start_once()).expect("chromedriver finds a port within 20 starts")
    }

    /// It takes a free port of IPv6 and then asks for the same of IPv4. Where another has that it ends: nothing then.
    fn start_once() -> Option<(Self, String)> {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is there: `make setup` installs it");
        let output = driver.stdout.take().unwrap();
        let driver = Self(driver);
        let (sender, receiver) = mpsc::channel();
        // Read to its end, so that the driver never writes to nobody.
        std::thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                let port =
                    line.split_once("successfully on port ").map(|(_, port)| port.trim_end_matches('.').to_owned());
                if let Some(port) = port {
                    let _ = sender.send(port);
                }
            }
        });
        match receiver.recv_timeout(PATIENCE) {
            Ok(port) => Some((driver, format!("http://127.0.0.1:{port}"))),
            Err(mpsc::RecvTimeoutError::Disconnected) => None,
            Err(mpsc::RecvTimeoutError::Timeout) => panic!("chromedriver neither tells its port nor ends"),
        }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        for (pid, _) in family(self.0.id()) {
            let _ = kill_process(Pid::from_raw(pid.cast_signed()).unwrap(), Signal::KILL);
        }
        let _ = self.0.wait();
    }
}

impl Browser {
    pub(crate) async fn new() -> Self {
        let profile = tempfile::tempdir().unwrap();
        let (driver, address) = Driver::start();
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            // Its own shared memory is small where tests usually run, and pages then crash.
            "--disable-dev-shm-usage",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
            "--force-prefers-reduced-motion",
        ];
        let mut arguments: Vec<String> = arguments.map(str::to_owned).into();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
        let capabilities: Capabilities =
            serde_json::from_value(serde_json::json!({ "goog:chromeOptions": { "args": arguments } })).unwrap();
        let mut builder = ClientBuilder::new(HttpConnector::new());
        builder.capabilities(capabilities);
        let client = tokio::time::timeout(PATIENCE, builder.connect(&address)).await;
        let client = client.expect("a browser starts in time").expect("a browser starts");
        Self { driver, client, _profile: profile }
    }

    /// Waits until something is on the page; answers its text.
    pub(crate) async fn sees(&self, css: &str) -> String {
        let wait = self.client.wait().at_most(PATIENCE);
        match wait.for_element(Locator::Css(css)).await {
            Ok(element) => element.text().await.unwrap_or_default(),
            Err(error) => panic!("the page does not show {css}: {error}\n{}", self.text().await),
        }
    }

    /// All that is on the page; nothing while it is being replaced by another.
    pub(crate) async fn text(&self) -> String {
        match self.client.find(Locator::Css("body")).await {
            Ok(body) => body.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    pub(crate) async fn reads(&self, words: &str) {
        until(&format!("`{words}` on the page"), async || self.text().await.contains(words).then_some(())).await;
    }

    pub(crate) async fn click(&self, css: &str) {
        // What is found may be drawn anew, or moved away, before it is clicked.
        until(&format!("a click on {css}"), async || {
            self.client.find(Locator::Css(css)).await.ok()?.click().await.ok()
        })
        .await;
    }

    pub(crate) async fn sign_in(&self, world: &World) {
        self.sign_in_with(world, &world.token).await;
    }

    pub(crate) async fn sign_in_with(&self, world: &World, token: &str) {
        self.client.goto(world.url()).await.unwrap();
        self.sees("#token").await;
        self.client.find(Locator::Css("#token")).await.unwrap().send_keys(token).await.unwrap();
        self.click("button[type=submit]").await;
        self.reads("Sign out").await;
    }

    /// Keeps a picture where somebody wants them (`make screenshots`).
    pub(crate) async fn picture(&self, name: &str) {
        if let Some(folder) = std::env::var_os("PONDRIX_SCREENSHOTS") {
            self.client.set_window_size(1280, 800 + 143).await.unwrap();
            tokio::time::sleep(Duration::from_millis(600)).await;
            let png = self.client.screenshot().await.unwrap();
            std::fs::write(PathBuf::from(folder).join(format!("{name}.png")), png).unwrap();
        }
    }

    pub(crate) async fn end(self) {
        let _ = self.client.close().await;
        drop(self.driver);
    }
}
