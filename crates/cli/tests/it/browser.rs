//! Headless Chromium, driven by ChromeDriver.

use std::process::Stdio;
use std::time::Duration;

use fantoccini::elements::Element;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;
use tempfile::TempDir;
use tokio::process::{Child, Command};

/// How long a page is waited for: everything shares two cores.
const PATIENCE: Duration = Duration::from_secs(60);

/// A browser window; the driver ends with it.
pub(crate) struct Browser {
    pub page: Client,
    /// Where the driver answers.
    url: String,
    _driver: Child,
    /// What the browser leaves behind goes with it.
    _folder: TempDir,
}

impl Browser {
    pub(crate) async fn open(port: u16) -> Self {
        Self::open_with(port, &[]).await
    }

    /// With more arguments of Chromium.
    pub(crate) async fn open_with(port: u16, more: &[String]) -> Self {
        let folder = TempDir::new().expect("a folder");
        let mut driver = Command::new("setpriv");
        driver.args(["--pdeathsig", "TERM", "chromedriver"]).arg(format!("--port={port}"));
        driver.env("TMPDIR", folder.path());
        driver.stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
        let driver = driver.spawn().expect("chromedriver starts");
        let url = format!("http://127.0.0.1:{port}");
        let status = format!("{url}/status");
        nomenta_world::wait_for("chromedriver answering", PATIENCE, || async {
            reqwest::get(&status).await.is_ok()
        })
        .await
        .expect("chromedriver");
        let usual = [
            "--headless=new",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--window-size=1280,800",
            "--hide-scrollbars",
        ];
        let arguments = [usual.map(str::to_owned).as_slice(), more].concat();
        let mut capabilities = serde_json::Map::new();
        capabilities.insert("goog:chromeOptions".into(), json!({ "args": arguments }));
        capabilities.insert("goog:loggingPrefs".into(), json!({ "browser": "ALL" }));
        let page = ClientBuilder::new(HttpConnector::new()).capabilities(capabilities).connect(&url).await;
        let page = page.expect("a window");
        // Headless windows keep a bar for themselves; the page gets 1280x800.
        page.set_window_size(1280, 943).await.expect("sized");
        Self { page, url, _driver: driver, _folder: folder }
    }

    /// Closes the window; fails if a page has complained. What the service
    /// refused is logged too, and is what some tests are about.
    pub(crate) async fn close(self) {
        let session = self.page.session_id().await.expect("asked").expect("a session");
        let call = format!("{}/session/{session}/se/log", self.url);
        let answer = reqwest::Client::new().post(call).json(&json!({ "type": "browser" })).send().await;
        let log: serde_json::Value = answer.expect("a log").json().await.expect("JSON");
        let entries = log["value"].as_array().expect("entries");
        let errors: Vec<_> = entries
            .iter()
            .filter(|entry| entry["level"] == "SEVERE" && entry["source"] != "network")
            .collect();
        assert!(errors.is_empty(), "the page complains: {errors:#?}");
        self.page.close().await.expect("closed");
    }

    /// Waits until the selector finds something that is shown.
    pub(crate) async fn see(&self, css: &str) -> Element {
        match self.page.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await {
            Ok(found) => found,
            Err(error) => panic!("{css} is not on the page: {error}; it says:\n{}", self.text().await),
        }
    }

    /// Clicks once the element is there and holds still: some come sliding in.
    pub(crate) async fn click(&self, css: &str) {
        self.clicked(css, Locator::Css(css)).await;
    }

    /// Presses the button of these words.
    pub(crate) async fn press(&self, words: &str) {
        let path = format!("//button[normalize-space(.)='{words}']");
        self.clicked(words, Locator::XPath(&path)).await;
    }

    /// Takes an option of the list that is open.
    pub(crate) async fn choose(&self, words: &str) {
        let path =
            format!("//li[contains(@class, 'el-select-dropdown__item') and normalize-space(.)='{words}']");
        self.clicked(words, Locator::XPath(&path)).await;
    }

    /// A live page may move what is about to be clicked, or draw it anew: it is clicked until hit.
    async fn clicked(&self, what: &str, locator: Locator<'_>) {
        let clicked = || async {
            match self.page.find(locator).await {
                Ok(element) => self.hits(element).await,
                Err(_) => false,
            }
        };
        let what = format!("a click on {what}");
        self.awaited(&what, clicked).await;
    }

    /// Whether a click reached the element. The page that it led to knows nothing of it.
    async fn hits(&self, element: Element) -> bool {
        let watch = "window.isHit = false;
            arguments[0].addEventListener('click', () => (window.isHit = true), { once: true, capture: true });";
        let watched = serde_json::to_value(&element).expect("an element");
        if self.page.execute(watch, vec![watched]).await.is_err() || element.click().await.is_err() {
            return false;
        }
        let missed = self.page.execute("return window.isHit === false;", Vec::new()).await;
        !missed.is_ok_and(|missed| missed == true)
    }

    pub(crate) async fn type_into(&self, css: &str, text: &str) {
        let field = self.see(css).await;
        field.click().await.expect("focused");
        // Select what is there, so that it is typed over.
        field.send_keys("\u{e009}a\u{e000}").await.expect("selected");
        field.send_keys(text).await.expect("typed");
    }

    /// Waits until the page's text has these words.
    pub(crate) async fn read(&self, words: &str) {
        let what = format!("the page saying {words:?}");
        self.awaited(&what, || async { self.text().await.contains(words) }).await;
    }

    /// Waits until something holds of the page; fails with what the page says.
    async fn awaited<F: Future<Output = bool>>(&self, what: &str, holds: impl Fn() -> F) {
        if let Err(error) = nomenta_world::wait_for(what, PATIENCE, holds).await {
            panic!("{error}; the page says:\n{}", self.text().await);
        }
    }

    /// Notes from now on whether the page shows these words, even for a moment.
    pub(crate) async fn listen_for(&self, words: &str) {
        let listen = "const [words] = arguments;
            const said = () => document.body.innerText.includes(words);
            window.isHeard = false;
            new MutationObserver(() => (window.isHeard ||= said())).observe(document.body, {
                subtree: true, childList: true, characterData: true,
            });";
        self.page.execute(listen, vec![words.into()]).await.expect("listens");
    }

    /// Waits until the page has shown the words of [`listen_for`](Self::listen_for).
    pub(crate) async fn heard(&self) {
        let is_heard = || async {
            let asked = self.page.execute("return window.isHeard === true;", Vec::new()).await;
            asked.is_ok_and(|is_heard| is_heard == true)
        };
        self.awaited("the page saying what is listened for", is_heard).await;
    }

    pub(crate) async fn text(&self) -> String {
        // On the way from one page to another there is none.
        let Ok(body) = self.page.find(Locator::Css("body")).await else { return String::new() };
        body.text().await.unwrap_or_default()
    }

    /// Signs in, and waits until that is done: to go elsewhere before would call it off.
    pub(crate) async fn sign_in(&self, url: &str, key: &str) {
        self.try_key(url, key).await;
        self.see("header.bar").await;
    }

    pub(crate) async fn try_key(&self, url: &str, key: &str) {
        self.page.goto(url).await.expect("the console");
        self.type_into("#key", key).await;
        self.press("Sign in").await;
    }
}
