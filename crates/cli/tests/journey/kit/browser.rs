//! Chromium behind its driver: one driver for the whole run, one session for each test.

use super::{Stage, block, folder, until};
use arvok_postgres::{SupervisedChild, spawn_supervised};
use serde_json::{Value, json};
use std::{
    fs,
    process::{Command, Stdio},
    sync::OnceLock,
};
use thirtyfour::{By, ChromiumLikeCapabilities, DesiredCapabilities, Key, WebDriver};

const AXE: &str = include_str!("../../../../../console/node_modules/axe-core/axe.min.js");

/// The driver's address; it ends with the test process.
fn driver() -> &'static str {
    static DRIVER: OnceLock<(SupervisedChild, String)> = OnceLock::new();
    let (_, address) = DRIVER.get_or_init(|| {
        let log = folder("driver").join("log");
        let mut command = Command::new("chromedriver");
        command.arg("--port=0");
        let out = fs::File::create(&log).expect("a log");
        let driver = spawn_supervised(&command, "KILL", out.into(), Stdio::null())
            .expect("chromedriver is installed");
        let port = until("chromedriver's port", || {
            let said = fs::read_to_string(&log).ok()?;
            let rest = said.split("started successfully on port ").nth(1)?;
            rest.split('.').next()?.trim().parse::<u16>().ok()
        });
        (driver, format!("http://127.0.0.1:{port}"))
    });
    address
}

/// A browser window on a node's console.
pub struct Browser {
    driver: WebDriver,
    address: String,
}

impl Browser {
    /// Opens a window of 1280 by 800 in the dark, or the light.
    pub fn open(stage: &Stage, dark: bool) -> Self {
        let profile = folder("profile");
        let mut capabilities = DesiredCapabilities::chrome();
        for option in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-default-apps",
            "--disable-extensions",
            "--disable-domain-reliability",
            "--disable-dev-shm-usage",
            "--force-color-profile=srgb",
            "--hide-scrollbars",
            "--force-prefers-reduced-motion",
            "--disable-features=OptimizationHints,MediaRouter,Translate,BackForwardCache,AutofillServerCommunication",
            "--host-resolver-rules=MAP arvok.example 127.0.0.1 , MAP * ~NOTFOUND , EXCLUDE \
            localhost , EXCLUDE 127.0.0.1",
        ] {
            capabilities.add_arg(option).expect("an option");
        }
        capabilities.add_arg(&format!("--user-data-dir={}", profile.display())).expect("an option");
        let driver = block(WebDriver::new(driver(), capabilities)).expect("a browser");
        let browser = Self { driver, address: stage.address.clone() };
        browser.size(1280, 800);
        browser.go("/");
        browser.theme(dark);
        browser
    }

    /// Signs in with the stage's token.
    pub fn sign_in(&self, token: &str) {
        self.see("Sign in");
        block(async {
            let field = self.driver.find(By::Id("token")).await.expect("a field for the token");
            field.send_keys(token).await.expect("typing");
            self.driver
                .find(By::Css("button[type=submit]"))
                .await
                .expect("a button")
                .click()
                .await
                .expect("a click");
        });
    }

    /// Sets the size of the page itself.
    pub fn size(&self, width: u32, height: u32) {
        let tools = self.driver.cdp();
        let metrics = json!({ "width": width, "height": height, "deviceScaleFactor": 1,
            "mobile": width < 600 });
        block(tools.send_raw("Emulation.setDeviceMetricsOverride", metrics)).expect("a size");
    }

    /// Chooses light or dark, as the switch does.
    pub fn theme(&self, dark: bool) {
        let theme = if dark { "dark" } else { "light" };
        self.run(&format!(
            "localStorage.setItem('arvok-theme', '{theme}'); \
            document.documentElement.dataset.theme = '{theme}';"
        ));
    }

    /// Goes to a path of the console.
    pub fn go(&self, path: &str) {
        block(self.driver.goto(format!("{}{path}", self.address))).expect("a page");
    }

    /// Goes to a path of the console as from another machine: by a name that is not this one's,
    /// without TLS.
    pub fn go_from_afar(&self, path: &str) {
        let address = self.address.replace("127.0.0.1", "arvok.example");
        block(self.driver.goto(format!("{address}{path}"))).expect("a page");
    }

    /// Opens another tab at a path and turns to it; its name.
    pub fn tab(&self, path: &str) -> thirtyfour::WindowHandle {
        let tab = block(self.driver.new_tab()).expect("a tab");
        self.turn_to(&tab);
        self.go(path);
        tab
    }

    /// Turns to a tab.
    pub fn turn_to(&self, tab: &thirtyfour::WindowHandle) {
        block(self.driver.switch_to_window(tab.clone())).expect("the tab");
    }

    /// Closes the tab that was there first.
    pub fn close_first(&self) {
        let all = block(self.driver.windows()).expect("tabs");
        self.turn_to(&all[0]);
        block(self.driver.close_window()).expect("closes");
    }

    /// The text of the page.
    pub fn text(&self) -> String {
        self.run("return document.body.innerText").as_str().unwrap_or_default().to_owned()
    }

    /// Waits for a text to be shown.
    pub fn see(&self, text: &str) {
        let end = std::time::Instant::now() + std::time::Duration::from_secs(60);
        until(&format!("the page to show `{text}`"), || {
            let shown = self.text();
            assert!(
                std::time::Instant::now() < end,
                "waited a minute for `{text}`; the page says: {shown}"
            );
            shown.contains(text).then_some(())
        });
    }

    /// Clicks the first link, button or choice that holds a text.
    pub fn click(&self, text: &str) {
        let clicked = format!(
            "const e = [...document.querySelectorAll('a, button, label:has([type=radio])')].find(e \
            => e.textContent.includes({}) && !e.disabled); e?.click(); return !!e",
            json!(text)
        );
        until(&format!("something to click with `{text}`"), || {
            (self.run(&clicked) == json!(true)).then_some(())
        });
    }

    /// Clicks the last button that says exactly this.
    pub fn click_last(&self, text: &str) {
        let clicked = format!(
            "const e = [...document.querySelectorAll('button')].findLast(e => e.textContent === {} \
            && !e.disabled); e?.click(); return !!e",
            json!(text)
        );
        until(&format!("a button that says `{text}`"), || {
            (self.run(&clicked) == json!(true)).then_some(())
        });
    }

    /// Waits until there is a field.
    fn see_field(&self, field: &str) {
        let there = format!("return !!document.querySelector({})", json!(field));
        until(&format!("the field {field}"), || (self.run(&there) == json!(true)).then_some(()));
    }

    /// Types at the beginning of a field.
    pub fn type_in(&self, field: &str, text: &str) {
        self.see("rule: ");
        block(async {
            let field = self.driver.find(By::Css(field)).await.expect("a field");
            field.click().await.expect("a click");
            field.send_keys(Key::Control + Key::Home).await.expect("a key");
            field.send_keys(text).await.expect("typing");
        });
    }

    /// Types into a field in the place of what stands there.
    pub fn fill(&self, field: &str, text: &str) {
        self.see_field(field);
        block(async {
            let field = self.driver.find(By::Css(field)).await.expect("a field");
            // As a person does it: what stands there is selected, and what is typed replaces it.
            field.send_keys(Key::Control + "a").await.expect("selecting");
            let typed = if text.is_empty() { "" + Key::Backspace } else { text.into() };
            field.send_keys(typed).await.expect("typing");
        });
    }

    /// Changes the text in the editor, and leaves the cursor behind the change.
    pub fn edit(&self, from: &str, to: &str) {
        let script = format!(
            "const c = document.querySelector('.cm-content'); const view = (c?.cmTile ?? \
            c?.cmView)?.view;
            if (!view) return false; const text = view.state.doc.toString(); const at = text.indexOf({0});
            if (at < 0) return false; view.focus(); view.dispatch({{ changes: {{ from: at, to: at + {0}.length, insert: {1} }},
            selection: {{ anchor: at + {1}.length }} }}); return true",
            json!(from),
            json!(to)
        );
        until(&format!("the editor to hold `{from}`"), || {
            (self.run(&script) == json!(true)).then_some(())
        });
    }

    /// Asks the editor to complete the word before the cursor, again until it offers a text.
    pub fn offers(&self, text: &str) {
        let offered = "return [...document.querySelectorAll('.cm-tooltip-autocomplete, \
            .cm-completionInfo')].map(e => e.innerText).join('\\n')";
        let close = "document.querySelector('.cm-content').dispatchEvent(new \
            KeyboardEvent('keydown', { key: 'Escape', bubbles: true }))";
        until(&format!("the editor to offer `{text}`"), || {
            let shown = self.run(offered).as_str().unwrap_or_default().to_owned();
            if shown.contains(text) {
                return Some(());
            }
            // What it offers may be of a moment ago.
            self.run(close);
            block(async {
                let field = self.driver.find(By::Css(".cm-content")).await.expect("an editor");
                field.send_keys(Key::Control + " ").await.expect("a key");
            });
            until("it to offer something", || {
                (self.run(offered).as_str() != Some("")).then_some(())
            });
            None
        });
        self.run(close);
    }

    /// Gives a part of the page the focus, and presses a key there.
    pub fn press(&self, part: &str, key: Key) {
        block(async {
            let part = self.driver.find(By::Css(part)).await.expect("a part");
            part.send_keys("" + key).await.expect("a key");
        });
    }

    /// Types where the focus is: texts, and keys.
    pub fn keys(&self, typed: impl Into<thirtyfour::TypingData>) {
        let typed: String = typed.into().as_vec().into_iter().collect();
        until("what has the focus to take a key", || {
            let focused = block(self.driver.active_element()).ok()?;
            // What had the focus may be gone by now: whatever has it then.
            block(focused.send_keys(&typed)).ok()
        });
    }

    /// What has the focus, by its name or its text.
    pub fn focused(&self) -> String {
        let told = "const e = document.activeElement; const label = e.labels?.[0]?.innerText;
            return e.getAttribute('aria-label') ?? label ?? (e.innerText || e.textContent || e.value || e.tagName)";
        self.run(told).as_str().unwrap_or_default().to_owned()
    }

    /// Presses the key that leads on until what holds a text has the focus.
    pub fn tab_to(&self, text: &str) {
        let mut passed = Vec::new();
        until(&format!("a key to lead to `{text}`"), || {
            for _ in 0..150 {
                self.keys("" + Key::Tab);
                let focused = self.focused();
                if focused.contains(text) {
                    return Some(());
                }
                passed.push(focused);
            }
            None
        });
    }

    /// Tells the browser in which zone it is.
    pub fn zone(&self, zone: &str) {
        block(
            self.driver
                .cdp()
                .send_raw("Emulation.setTimezoneOverride", json!({ "timezoneId": zone })),
        )
        .expect("a zone");
    }

    /// Runs a script.
    pub fn run(&self, script: &str) -> Value {
        block(self.driver.execute(script, vec![])).expect("the script runs").json().clone()
    }

    /// Violations that axe-core finds on the page, one a line.
    pub fn violations(&self) -> Vec<String> {
        self.run(AXE);
        let script = "const done = arguments[arguments.length - 1]; axe.run().then(r => \
            done(r.violations.map(v =>
            v.id + ': ' + v.help + ' at ' + v.nodes.slice(0, 3).map(n => n.target.join(' ')).join('; '))), e => done([String(e)]));";
        let found = block(self.driver.execute_async(script, vec![])).expect("axe runs");
        let lines = found.json().as_array().cloned().unwrap_or_default();
        lines.iter().map(|l| l.as_str().unwrap_or_default().to_owned()).collect()
    }

    /// A picture of the page.
    pub fn picture(&self, file: &std::path::Path) {
        block(self.driver.screenshot(file)).expect("a picture");
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = block(self.driver.clone().quit());
    }
}
