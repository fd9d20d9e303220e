//! The console in headless Chromium: the demo's seven steps, each page checked for accessibility.
//! With EAGER_TIDE_PICTURES set to a folder, the pages' pictures are written there.
#![allow(clippy::disallowed_methods, reason = "tests run in real time")]
#![allow(clippy::unwrap_used)]

mod common;

use common::Running;
use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use thirtyfour::prelude::*;

/// How long a page may take to show something.
const PATIENCE: Duration = Duration::from_secs(60);

/// chromedriver in a process group of its own, so that its Chromium ends with it.
struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    /// Starts ChromeDriver. It picks a port, and gives up when somebody else has that port of the
    /// other protocol family: it is tried again.
    fn start() -> Driver {
        (0..5)
            .find_map(|_| Driver::try_start())
            .expect("chromedriver says its port")
    }

    fn try_start() -> Option<Driver> {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect("chromedriver is installed: scripts/test installs it");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = lines.by_ref().map_while(Result::ok).find_map(|line| {
            line.rsplit_once("successfully on port ")
                .and_then(|(_, rest)| rest.trim_end_matches('.').parse().ok())
        });
        let Some(port) = port else {
            // It has ended; this keeps no zombie.
            let _ = child.wait();
            return None;
        };
        std::thread::spawn(move || lines.map_while(Result::ok).for_each(drop));
        Some(Driver { child, port })
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-KILL", "--", &format!("-{}", self.child.id())])
            .status();
        let _ = self.child.wait();
    }
}

struct Browser {
    driver: WebDriver,
    /// What is wrong with the pages that were looked at: all of it, so that one run shows all.
    faults: std::sync::Mutex<Vec<String>>,
}

impl Browser {
    async fn open(port: u16, profile: &std::path::Path) -> WebDriverResult<Browser> {
        let mut caps = DesiredCapabilities::chrome();
        for flag in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--force-color-profile=srgb",
        ] {
            caps.add_arg(flag)?;
        }
        caps.add_arg(&format!("--user-data-dir={}", profile.display()))?;
        let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), caps).await?;
        let browser = Browser {
            driver,
            faults: std::sync::Mutex::default(),
        };
        browser.size(1280, 800).await?;
        Ok(browser)
    }

    async fn size(&self, width: u32, height: u32) -> WebDriverResult<()> {
        self.driver
            .cdp()
            .send_raw(
                "Emulation.setDeviceMetricsOverride",
                serde_json::json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false}),
            )
            .await?;
        Ok(())
    }

    /// What the page shows. By the page's own `innerText`: the driver's way of asking takes seconds
    /// on a page of many rows, and holds the page up meanwhile.
    async fn says(&self) -> WebDriverResult<String> {
        self.driver
            .execute("return document.body.innerText", vec![])
            .await?
            .convert()
    }

    /// Waits until a JavaScript condition holds of the page. Returns whether it did in time.
    async fn eventually(&self, condition: &str, argument: serde_json::Value) -> bool {
        let begun = std::time::Instant::now();
        while begun.elapsed() < PATIENCE {
            let script = format!("return !!({condition})");
            // A page that is being left answers with an error.
            if let Ok(answer) = self.driver.execute(script, vec![argument.clone()]).await
                && answer.convert::<bool>().unwrap_or(false)
            {
                return true;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        false
    }

    /// Waits until the page holds a text.
    async fn text(&self, text: &str) -> WebDriverResult<()> {
        let shown = "document.body.innerText.includes(arguments[0])";
        if self.eventually(shown, text.into()).await {
            return Ok(());
        }
        let body: String = self.says().await?.chars().take(3000).collect();
        panic!(
            "the page never says `{text}`; it says:
{body}"
        );
    }

    /// Waits until the page holds a text no longer.
    async fn gone(&self, text: &str) -> WebDriverResult<()> {
        let gone = "!document.body.innerText.includes(arguments[0])";
        let gone = self.eventually(gone, text.into()).await;
        assert!(gone, "the page still says `{text}`");
        Ok(())
    }

    /// Has the page note when it shows a text that may pass before anyone asks for it.
    async fn watch(&self, text: &str) -> WebDriverResult<()> {
        let text = serde_json::json!(text);
        self.driver
            .execute(
                "window.passed = false; new MutationObserver(() => { if (document.querySelector('main').textContent.includes(arguments[0])) window.passed = true }).observe(document.body, {subtree: true, childList: true, characterData: true})",
                vec![text],
            )
            .await?;
        Ok(())
    }

    /// Whether the text watched for was shown at any time since.
    async fn passed(&self) -> WebDriverResult<bool> {
        self.driver
            .execute("return window.passed", vec![])
            .await?
            .convert()
    }

    async fn click(&self, xpath: &str) -> WebDriverResult<()> {
        let element = self.driver.query(By::XPath(xpath)).first().await?;
        if let Err(error) = element.wait_until().clickable().await {
            panic!(
                "`{xpath}` cannot be clicked: {error}; the page says:\n{}",
                self.says().await?
            );
        }
        element.click().await
    }

    async fn button(&self, label: &str) -> WebDriverResult<()> {
        // `Publish…` opens the dialog in which `Publish` is: the one is not taken for the other.
        self.click(&format!(
            "//button[contains(normalize-space(.), '{label}') and not(contains(normalize-space(.), '{label}…'))]"
        ))
        .await
    }

    async fn page(&self, label: &str) -> WebDriverResult<()> {
        self.click(&format!("//nav//a[normalize-space(.)='{label}']"))
            .await
    }

    /// Checks accessibility, and that nothing has to be scrolled sideways; keeps a picture.
    async fn look(&self, name: &str) -> WebDriverResult<()> {
        tokio::time::sleep(Duration::from_millis(700)).await;
        // What is fading away has no contrast to speak of.
        let faded = "!document.querySelector('.p-toast-message')";
        let faded = self.eventually(faded, serde_json::Value::Null).await;
        assert!(faded, "a message stays on {name}");
        let axe = std::fs::read_to_string(concat!(
            env!("CARGO_MANIFEST_DIR"),
            "/../../console/node_modules/axe-core/axe.min.js"
        ))
        .expect("axe-core is installed");
        self.driver.execute(axe, vec![]).await?;
        let found = self.driver.execute_async(
            "const done = arguments[arguments.length - 1]; axe.run(document, {resultTypes: ['violations']}).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 120)).join(' | '))))",
            vec![]).await?;
        let found: Vec<String> = found.convert()?;
        self.faults
            .lock()
            .unwrap()
            .extend(found.into_iter().map(|fault| format!("{name}: {fault}")));
        let wide: bool = self
            .driver
            .execute(
                "return document.documentElement.scrollWidth > window.innerWidth",
                vec![],
            )
            .await?
            .convert()?;
        if wide {
            self.faults
                .lock()
                .unwrap()
                .push(format!("{name} has to be scrolled sideways"));
        }
        self.picture(name).await
    }

    async fn picture(&self, name: &str) -> WebDriverResult<()> {
        if let Ok(folder) = std::env::var("EAGER_TIDE_PICTURES") {
            self.driver
                .screenshot(&std::path::Path::new(&folder).join(format!("{name}.png")))
                .await?;
        }
        Ok(())
    }
}

/// Adds one person, changes one, renames one, moves one out of scope and deletes one, with the
/// directory's own tool as the demo shows it.
fn edit_directory(shown: &str, roster: &str) {
    let people =
        tide_standins::world::people(tide_standins::world::SEED, tide_standins::world::PEOPLE);
    let free: Vec<_> = people
        .iter()
        .enumerate()
        .filter(|(n, p)| {
            (20..60).contains(n) && n % 10 > 4 && !p.locked && p.mail.ends_with("@skerry.example")
        })
        .map(|(_, p)| p)
        .collect();
    let [changed, renamed, moved, deleted] = [free[0], free[1], free[2], free[3]];
    let base = tide_standins::world::BASE;
    let ldif = format!(
        "dn: uid=tove.quay,ou=Deck,ou=people,{base}\nchangetype: add\nobjectClass: inetOrgPerson\nuid: tove.quay\ncn: Tove Quay\nsn: Quay\ngivenName: Tove\nemployeeNumber: 7001\nmail: tove.quay@skerry.example\n\n\
         dn: {}\nchangetype: modify\nreplace: title\ntitle: Harbour Master\n\n\
         dn: {}\nchangetype: modify\nreplace: mail\nmail: newly.wed@skerry.example\n\n\
         dn: {}\nchangetype: modrdn\nnewrdn: uid=newly.wed\ndeleteoldrdn: 1\n\n\
         dn: {}\nchangetype: modrdn\nnewrdn: uid={}\ndeleteoldrdn: 1\nnewsuperior: ou=former,{base}\n\n\
         dn: {}\nchangetype: delete\n",
        changed.dn(),
        renamed.dn(),
        renamed.dn(),
        moved.dn(),
        moved.uid,
        deleted.dn()
    );
    // Who leaves has left the personnel office's file too.
    let text = std::fs::read_to_string(roster).unwrap();
    let gone = |line: &&str| {
        ![moved, deleted]
            .iter()
            .any(|p| line.starts_with(&format!("{};", p.number)))
    };
    std::fs::write(
        roster,
        text.lines().filter(gone).collect::<Vec<_>>().join("\n") + "\n",
    )
    .unwrap();
    ldapmodify(shown, &ldif);
}

/// The directory's own tool, as the demo shows it.
fn ldapmodify(shown: &str, ldif: &str) {
    let words: Vec<&str> = shown
        .split_whitespace()
        .take_while(|word| *word != "<<END")
        .collect();
    let mut tool = Command::new(words[0])
        .args(&words[1..])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .expect("ldap-utils are installed");
    std::io::Write::write_all(&mut tool.stdin.take().unwrap(), ldif.as_bytes()).unwrap();
    assert!(tool.wait().unwrap().success(), "{shown}");
}

/// What the demo prints for its reader: addresses and commands.
struct Printed {
    console: String,
    directory: String,
    roster: String,
    tamper: String,
}

impl Printed {
    fn of(demo: &Running) -> Printed {
        let line = |text: &str| demo.line(text).trim().to_owned();
        let after = |line: &str, word: &str| line.trim_start_matches(word).trim().to_owned();
        Printed {
            console: after(&line("#token="), "console"),
            directory: line("ldapmodify -x"),
            roster: after(&line("$EDITOR "), "$EDITOR"),
            tamper: line("curl -X PATCH"),
        }
    }

    fn root(&self) -> &str {
        self.console.split('#').next().unwrap()
    }
}

/// The demo's steps, one after the other, on one service.
async fn story(browser: &Browser, printed: &Printed) -> WebDriverResult<()> {
    let (directory, roster) = (&printed.directory, &printed.roster);
    sign_in(browser, printed).await?;
    systems(browser).await?;
    set_up(browser, directory).await?;
    settings(browser).await?;
    scopes(browser).await?;
    matches(browser).await?;
    rules(browser).await?;
    preview(browser).await?;
    live_run(browser).await?;
    on_hold(browser).await?;
    drafts(browser).await?;
    versions(browser).await?;
    two_at_once(browser).await?;
    browser.page("Overview").await?;
    edit_directory(directory, roster);
    changed_directory(browser, &printed.tamper).await?;
    why(browser).await?;
    by_itself(browser, directory, roster).await?;
    operators(browser).await?;
    approvals(browser, directory).await?;
    leaving(browser).await?;
    roles_and_licenses(browser).await?;
    group(browser).await?;
    browser.button("Cancel departure").await?;
    browser.text("Start departure…").await?;
    dark_and_sign_out(browser, printed).await
}

/// A wrong token is refused; the address that the demo prints signs in.
async fn sign_in(browser: &Browser, printed: &Printed) -> WebDriverResult<()> {
    let driver = &browser.driver;
    let (console, root) = (&printed.console, printed.root());
    driver.goto(format!("{root}systems")).await?;
    browser.text("Sign in with a token").await?;
    browser.look("sign-in").await?;
    driver
        .find(By::Id("token"))
        .await?
        .send_keys("wrong")
        .await?;
    browser.button("Sign in").await?;
    browser.text("this token is not valid").await?;

    driver.goto("about:blank").await?;
    driver.goto(console).await?;
    browser.text("Nothing was run yet").await?;
    assert!(
        !driver.current_url().await?.as_str().contains("token="),
        "the token does not stay in the address"
    );
    Ok(())
}

/// Both systems are healthy.
async fn systems(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Systems").await?;
    browser.text("read-only").await?;
    browser.text("306").await?;
    browser.look("systems").await?;
    browser
        .click("//h2/a[normalize-space(.)='harbour']")
        .await?;
    browser.text("StartTLS, certificate trusted").await?;
    browser.button("Test").await?;
    browser.text("All steps passed").await?;
    browser.look("system").await
}

async fn rules(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Rules").await?;
    browser.text("Outbound: identity → account").await?;
    browser.look("rules").await?;
    browser
        .click("//button[@role='tab' and normalize-space(.)='harbour']")
        .await?;
    browser.text("address outside our domain").await?;
    browser
        .fill(
            "expression",
            "lower(joinWords(identity.givenName, identity.familyNam))",
        )
        .await?;
    browser.fill("on", "1009").await?;
    browser.text("did you mean").await?;
    browser
        .fill(
            "expression",
            "lower(joinWords(identity.givenName, identity.familyName))",
        )
        .await?;
    browser
        .text("joinWords(identity.givenName, identity.familyName)")
        .await?;
    browser.text("= ").await?;
    browser.look("evaluate").await
}

async fn preview(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Overview").await?;
    browser.button("Preview a run").await?;
    browser.text("Apply these").await?;
    browser.text("Nothing was written").await?;
    browser.look("preview").await?;
    browser
        .click("//button[contains(@class, 'tally') and contains(., 'on hold')]")
        .await?;
    browser
        .text("ambiguous: 2 accounts match by employee number")
        .await?;
    browser
        .click("//button[contains(@class, 'tally') and contains(., 'join')]")
        .await?;
    browser.text("exists and matches by address").await?;
    browser
        .click("(//button[contains(@class, 'p-datatable-row-toggle-button')])[1]")
        .await?;
    browser.text("Before").await?;
    browser.look("preview-values").await
}

async fn live_run(browser: &Browser) -> WebDriverResult<()> {
    let driver = &browser.driver;
    browser.button("Apply these").await?;
    driver
        .query(By::Css(".p-dialog:focus-within"))
        .first()
        .await?;
    browser
        .text("Anything that changed since this preview")
        .await?;
    browser.watch(" per second").await?;
    browser
        .click("//div[contains(@class, 'p-dialog')]//button[normalize-space(.)='Run']")
        .await?;
    let progress =
        "[' per second', 'changes done'].some(text => document.body.innerText.includes(text))";
    let progress = browser.eventually(progress, serde_json::Value::Null);
    assert!(progress.await, "progress or an end");
    browser.picture("run-live").await?;
    browser.text("changes done").await?;
    assert!(
        browser.passed().await?,
        "the run's progress is shown while it goes on"
    );
    browser.look("run").await
}

async fn on_hold(browser: &Browser) -> WebDriverResult<()> {
    let driver = &browser.driver;
    browser.page("Changes").await?;
    browser.text("468 done").await?;
    browser.page("Overview").await?;
    browser.text("records are on hold").await?;
    browser.look("overview").await?;
    browser.page("On hold").await?;
    browser.text("waiting for a value of mail").await?;
    browser.text("The owner of the source").await?;
    browser.look("on-hold").await?;
    browser
        .click("//nav[@aria-label='Causes']//button[contains(., 'Needs review')]")
        .await?;
    browser.gone("waiting for a value of mail").await?;
    assert!(
        driver
            .current_url()
            .await?
            .as_str()
            .contains("cause=needs_review"),
        "the choice is in the address"
    );
    browser.page("Overview").await?;
    browser.text("records are on hold").await
}

/// The directory and an account of the target were changed: the preview shows it, the run does it,
/// and then nothing is left to do.
async fn changed_directory(browser: &Browser, tamper: &str) -> WebDriverResult<()> {
    let driver = &browser.driver;
    assert!(
        Command::new("sh")
            .args(["-c", tamper])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status()
            .unwrap()
            .success(),
        "{tamper}"
    );
    browser.button("Preview a run").await?;
    browser.text("Apply these ").await?;
    browser.text("out of scope in harbour").await?;
    browser.look("preview-leavers").await?;
    let preview = driver.current_url().await?;
    browser.page("Overview").await?;
    browser.text("was changed in berthing by others").await?;
    browser.button("Mark all as read").await?;
    browser.gone("was changed in berthing by others").await?;
    driver.goto(preview.as_str()).await?;
    browser.button("Apply these").await?;
    driver
        .query(By::Css(".p-dialog:focus-within"))
        .first()
        .await?;
    browser
        .click("//div[contains(@class, 'p-dialog')]//button[normalize-space(.)='Run']")
        .await?;
    browser.text("changes done, 0 failed").await?;
    browser.page("Changes").await?;
    browser.button("Preview a run").await?;
    browser.text("No changes to apply").await
}

/// Why, and why not.
async fn why(browser: &Browser) -> WebDriverResult<()> {
    let driver = &browser.driver;
    browser.page("Identities").await?;
    browser.text("Farrokhzad").await?;
    browser.look("identities").await?;
    driver
        .find(By::Css("input.search"))
        .await?
        .send_keys("kiosk1")
        .await?;
    browser.button("Explain").await?;
    browser.text("its container is excluded").await?;
    let search = driver.find(By::Css("input.search")).await?;
    search.clear().await?;
    search.send_keys("1009").await?;
    browser.button("Explain").await?;
    browser.text("Values and their sources").await?;
    browser.text("in sync").await?;
    browser.look("identity").await?;
    browser.button("Show once").await?;
    browser.text("Copy it now: it is not shown again.").await?;
    driver.refresh().await?;
    browser.text("to first operator").await?;
    browser.gone("Show once").await
}

async fn dark_and_sign_out(browser: &Browser, printed: &Printed) -> WebDriverResult<()> {
    let driver = &browser.driver;
    driver
        .cdp()
        .send_raw(
            "Emulation.setEmulatedMedia",
            serde_json::json!({"features": [{"name": "prefers-color-scheme", "value": "dark"}]}),
        )
        .await?;
    browser.page("Overview").await?;
    browser.text("on hold").await?;
    browser.look("overview-dark").await?;

    browser.button("Sign out").await?;
    browser.text("Sign in with a token").await?;
    driver.goto(format!("{}changes", printed.root())).await?;
    browser.text("Sign in with a token").await?;
    Ok(())
}

impl Browser {
    async fn fill(&self, id: &str, text: &str) -> WebDriverResult<()> {
        let field = self.driver.query(By::Id(id)).first().await?;
        field.clear().await?;
        field.send_keys(text).await
    }

    async fn choose(&self, xpath: &str, value: &str) -> WebDriverResult<()> {
        self.click(&format!("{xpath}/option[@value='{value}']"))
            .await
    }
}

/// A second view of the directory is connected with the guided set-up: a check that fails says why,
/// one that passes leads on, and what is added does nothing yet.
async fn set_up(browser: &Browser, directory: &str) -> WebDriverResult<()> {
    let words: Vec<&str> = directory.split_whitespace().collect();
    let after = |flag: &str| words[words.iter().position(|word| *word == flag).unwrap() + 1];
    browser.page("Systems").await?;
    browser.button("Connect a system").await?;
    browser.text("To continue, give the system a name").await?;
    browser.fill("name", "watch").await?;
    browser.fill("url", after("-H")).await?;
    browser.choose("//select[@id='tls']", "none").await?;
    browser
        .fill("base", &format!("ou=peple,{}", tide_standins::world::BASE))
        .await?;
    browser.fill("bind", after("-D")).await?;
    browser.fill("secret", after("-w")).await?;
    browser.look("connect").await?;
    browser.button("Test the connection").await?;
    browser.text("A step failed").await?;
    browser
        .text("the nearest entry that exists is dc=skerry,dc=example")
        .await?;
    browser.look("connect-fails").await?;
    browser.button("Back to the connection").await?;
    browser.fill("base", tide_standins::world::BASE).await?;
    browser.button("Advanced settings").await?;
    browser.fill("pin", "ab:cd").await?;
    browser
        .text("To continue, give the SHA-256 of the pinned certificate")
        .await?;
    browser.fill("referrals", "annex.skerry.example").await?;
    browser.look("connect-more").await?;
    browser.fill("pin", " ").await?;
    browser.button("Test the connection").await?;
    browser.text("All steps passed").await?;
    browser.look("connect-passes").await?;
    browser.button("Choose what to read").await?;
    browser
        .click("//button[contains(@aria-label, 'Expand ou=people')]")
        .await?;
    browser
        .choose("//select[contains(@aria-label, 'Scope of ou=Deck')]", "in")
        .await?;
    browser.look("connect-tree").await?;
    browser.button("Add the system").await?;
    browser.text("watch is connected").await?;
    browser
        .text("ou=Deck,ou=people,dc=skerry,dc=example")
        .await?;
    browser.button("Review and publish the first rules").await?;
    browser.text("watch.toml").await?;
    browser.look("first-rules").await?;
    browser
        .driver
        .execute_async(
            "const done = arguments[arguments.length - 1]; fetch('/api/v1/rules/drafts').then(r => r.json()).then(all => Promise.all(all.map(one => fetch('/api/v1/rules/drafts/' + one.id, {method: 'DELETE'})))).then(() => done(true))",
            vec![],
        )
        .await?;
    Ok(())
}

/// Wrong settings and a wrong secret are refused; the system is retired after its effect was shown.
async fn settings(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Systems").await?;
    browser.click("//h2/a[normalize-space(.)='watch']").await?;
    browser.button("Edit settings…").await?;
    browser.text("Settings of watch").await?;
    browser.look("settings-of-a-system").await?;
    browser.fill("setting-page_size", "0").await?;
    browser
        .click("//div[@role='dialog']//button[normalize-space(.)='Save']")
        .await?;
    browser.text("page_size").await?;
    browser
        .click("//div[@role='dialog']//button[normalize-space(.)='Cancel']")
        .await?;
    // A dialog that fades away still holds fields of the same name.
    browser.gone("Settings of watch").await?;
    browser.button("Replace secret…").await?;
    browser
        .driver
        .find(By::Css("input[aria-label='New secret']"))
        .await?
        .send_keys("wrong")
        .await?;
    browser.button("Test and replace").await?;
    browser.text("the old secret stays").await?;
    browser.look("secret-refused").await?;
    browser
        .click("//div[@role='dialog']//button[normalize-space(.)='Cancel']")
        .await?;
    browser.button("Retire…").await?;
    browser.text("Nothing is written to watch itself").await?;
    browser.look("retire").await?;
    browser.button("Retire watch").await?;
    browser.text("watch was retired").await?;
    Ok(())
}

/// A system is followed: what changes in it is carried on without anybody, and what a guard holds
/// waits for a word.
async fn by_itself(browser: &Browser, directory: &str, roster: &str) -> WebDriverResult<()> {
    browser.page("Systems").await?;
    browser
        .click("//h2/a[normalize-space(.)='harbour']")
        .await?;
    browser
        .text("Manual: read and written only when an operator starts a run.")
        .await?;
    browser.button("Edit schedule").await?;
    browser
        .click("//label[contains(., 'Automatic sync')]/input")
        .await?;
    browser
        .click("//label[contains(., 'Write blackout')]/input")
        .await?;
    browser
        .click("//form//button[normalize-space(.)='Save']")
        .await?;
    browser
        .text("Automatic sync starts when the system is armed.")
        .await?;
    browser.button("Arm…").await?;
    browser.button("Arm").await?;
    browser
        .text("Automatic sync: changes are processed as they arrive.")
        .await?;
    browser
        .text("the directory sends each change at once")
        .await?;
    browser.text("watching").await?;
    browser.look("system-timing").await?;
    // Two dozen leave at once: more than the guard lets pass.
    let people =
        tide_standins::world::people(tide_standins::world::SEED, tide_standins::world::PEOPLE);
    let sound = |p: &&tide_standins::world::Crew| !p.locked && p.mail.ends_with("@skerry.example");
    let leaving: Vec<_> = people[100..].iter().filter(sound).take(24).collect();
    let text = std::fs::read_to_string(roster).unwrap();
    let stays = |line: &&str| {
        !leaving
            .iter()
            .any(|p| line.starts_with(&format!("{};", p.number)))
    };
    std::fs::write(
        roster,
        text.lines().filter(stays).collect::<Vec<_>>().join("\n") + "\n",
    )
    .unwrap();
    let ldif: String = leaving
        .iter()
        .map(|p| format!("dn: {}\nchangetype: delete\n\n", p.dn()))
        .collect();
    ldapmodify(directory, &ldif);
    browser.page("Decisions").await?;
    browser.text("Held by guard").await?;
    browser.text("disable changes are held in berthing").await?;
    browser.text("Matches that need review").await?;
    browser.look("decisions").await?;
    browser.button("Release…").await?;
    browser
        .text("The next run sends all of them in spite of the guard")
        .await?;
    browser.look("decision-release").await?;
    browser.button("Release these").await?;
    browser.gone("Held by guard").await?;
    browser.page("Changes").await?;
    browser.text("the service").await?;
    browser.look("changes").await
}

async fn operators(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Settings").await?;
    browser.text("first operator").await?;
    browser.button("Add an operator…").await?;
    browser
        .driver
        .query(By::Css(".p-dialog:focus-within"))
        .first()
        .await?;
    for (label, text) in [
        ("Name", "Ada Quay"),
        ("Groups", "harbour masters, night watch"),
    ] {
        let field = browser
            .driver
            .query(By::XPath(format!(
                "//form//label[contains(., '{label}')]//input"
            )))
            .first()
            .await?;
        field.send_keys(text).await?;
    }
    browser.button("Add and show the token").await?;
    browser.text("it is not shown again").await?;
    browser.button("I saved it").await?;
    browser.text("harbour masters, night watch").await?;
    browser.look("settings").await
}

/// A change is approved on two levels, and the operator of the first cannot approve the second.
async fn approvals(browser: &Browser, directory: &str) -> WebDriverResult<()> {
    const RULE: &str = "\n[[approval]]\nname = \"new titles\"\nsystem = \"berthing\"\nchange = \"update\"\nremind_every_days = 3\n[[approval.level]]\noperators = [\"first operator\"]\n[[approval.level]]\ngroups = [\"harbour masters\"]\n";
    const PUBLISH: &str = "const [text, done] = arguments; fetch('/api/v1/rules').then(r => r.json()).then(rules => fetch('/api/v1/rules', {method: 'PUT',
        headers: {'content-type': 'application/json'}, body: JSON.stringify({files: [...rules.files.map(f => ({name: f.name, text: f.text})), {name: 'approvals.toml', text}]})}))
        .then(r => done(r.status))";
    let status: i64 = browser
        .driver
        .execute_async(PUBLISH, vec![serde_json::json!(RULE)])
        .await?
        .convert()?;
    assert!((200..300).contains(&status), "{status}");
    let people =
        tide_standins::world::people(tide_standins::world::SEED, tide_standins::world::PEOPLE);
    let sound: Vec<_> = people[..90]
        .iter()
        .filter(|p| !p.locked && p.mail.ends_with("@skerry.example") && !p.given.is_empty())
        .collect();
    // Somebody whom the earlier steps left alone.
    let titled = sound[sound.len() - 3..].iter().map(|p| {
        format!(
            "dn: {}\nchangetype: modify\nreplace: title\ntitle: Harbour Pilot\n\n",
            p.dn()
        )
    });
    ldapmodify(directory, &titled.collect::<String>());
    browser.page("Decisions").await?;
    browser.text("Awaiting approval").await?;
    browser
        .text("new titles: level 1 of 2, first operator")
        .await?;
    browser.look("approval").await?;
    browser.button("Approve…").await?;
    browser
        .driver
        .query(By::Css(".p-dialog:focus-within"))
        .first()
        .await?;
    let words = browser
        .driver
        .query(By::Css(".p-dialog textarea"))
        .first()
        .await?;
    words.send_keys("seen the papers").await?;
    browser.look("approval-words").await?;
    browser
        .click("//div[@role='dialog']//button[normalize-space(.)='Approve']")
        .await?;
    browser
        .text("level 2 of 2, one of harbour masters; approved by first operator")
        .await?;
    browser.text("You cannot answer this").await?;
    browser.page("Changes").await?;
    browser.text("Preview this part").await?;
    let day = browser
        .driver
        .query(By::Css("input[type=date]"))
        .first()
        .await?;
    day.send_keys("01152027").await?;
    browser.button("Preview this part").await?;
    browser.text("As decided on 2027-01-15").await?;
    browser.text("as of 2027-01-15").await?;
    browser.look("as-of").await
}

/// A season in fast motion: leavers come by themselves, and each of their ways in is closed.
async fn season(browser: &Browser) -> WebDriverResult<()> {
    let demo = Running::start(&[
        "demo",
        "--season",
        "--day",
        "500",
        "--directory",
        "slapd",
        "--listen",
        "127.0.0.1:0",
    ]);
    let console = demo
        .line("#token=")
        .trim()
        .trim_start_matches("console")
        .trim()
        .to_owned();
    let root = console.split('#').next().unwrap_or_default().to_owned();
    browser.driver.goto(&console).await?;
    browser.text("identities").await?;
    demo.line("joined");
    browser
        .driver
        .goto(format!("{root}identities/leavers"))
        .await?;
    browser.text("Closed after").await?;
    browser.text("All access of leavers is closed").await?;
    let rows = browser
        .driver
        .find_all(By::Css("section:last-of-type tbody tr"))
        .await?;
    let more = "document.querySelectorAll('section:last-of-type tbody tr').length > arguments[0]";
    assert!(
        browser.eventually(more, (rows.len() + 3).into()).await,
        "nobody leaves while one watches"
    );
    browser.look("season").await?;
    let end = tokio::task::spawn_blocking(move || demo.line("people checked"))
        .await
        .expect("it ends");
    assert!(
        end.contains(" 0 wrong") && end.contains(" 0 leavers still have access"),
        "{end}"
    );
    Ok(())
}

/// Somebody leaves by a word: what that does is shown first, it is done at once, and it can be
/// taken back.
async fn leaving(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Identities").await?;
    browser.text("Farrokhzad").await?;
    let search = browser.driver.find(By::Css("input.search")).await?;
    search.send_keys("1009").await?;
    browser.button("Explain").await?;
    browser.text("today").await?;
    browser.look("identity-lifecycle").await?;
    browser.button("Start departure…").await?;
    browser.text("sent before all others").await?;
    browser.text("Afterwards").await?;
    browser.look("departure").await?;
    browser
        .driver
        .find(By::Css("input[aria-label='Reason']"))
        .await?
        .send_keys("walked off")
        .await?;
    browser.button("Start departure now").await?;
    browser.text("Cancel departure").await?;
    browser
        .text("departure by first operator (“walked off”)")
        .await?;
    browser.text("departure step 1: disable").await?;
    browser.look("identity-left").await?;
    browser.page("Identities").await?;
    browser.click("//a[normalize-space(.)='Leavers']").await?;
    browser.text("Closed after").await?;
    browser.look("leavers").await?;
    browser.driver.back().await
}

/// A person of the deck gets a role that conflicts with the role of the deck.
async fn roles_and_licenses(browser: &Browser) -> WebDriverResult<()> {
    const GIVE: &str = "const done = arguments[arguments.length - 1]; fetch('/api/v1/identities?search=deck%20hand&filter=active&limit=1').then(r => r.json()) \
        .then(found => fetch('/api/v1/roles/safety%20officer/holders', {method: 'POST', headers: {'content-type': 'application/json'}, \
        body: JSON.stringify({identity: found.items[0].id, comment: 'a drill'})})).then(r => done(r.status))";
    let given = browser.driver.execute_async(GIVE, Vec::new()).await?;
    assert_eq!(given.json(), &serde_json::json!(204));
    browser.click("//a[normalize-space(.)='Roles']").await?;
    browser.text("1 conflict between roles").await?;
    browser.text("deck watch by deck hand").await?;
    browser.text("safety officer").await?;
    browser.look("roles").await?;
    // Who gains and who loses the role by another condition.
    browser
        .click("//button[starts-with(@aria-label, 'Simulate another condition of deck hand')]")
        .await?;
    browser
        .fill("when-deck-hand", "identity.department == \"Galley\"")
        .await?;
    browser
        .click("//button[normalize-space(.)='Simulate']")
        .await?;
    browser.text("gain deck hand;").await?;
    browser.text("With this condition").await?;
    browser.look("role-simulation").await?;
    browser.driver.back().await?;
    browser.click("//a[normalize-space(.)='Licenses']").await?;
    browser.text("of 40").await?;
    browser.text("Needed in").await?;
    browser.look("licenses").await?;
    browser.driver.back().await?;
    browser
        .click("//a[normalize-space(.)='Notifications']")
        .await?;
    browser.text("No notifications yet").await?;
    browser.look("notifications").await?;
    browser.driver.back().await
}

/// Its members in each system, each with its origin.
async fn group(browser: &Browser) -> WebDriverResult<()> {
    const GROUP: &str = "const done = arguments[arguments.length - 1]; fetch('/api/v1/identities?search=deck-watch&limit=1').then(r => r.json()) \
        .then(found => done('/identities/' + found.items[0].id))";
    let path = browser.driver.execute_async(GROUP, Vec::new()).await?;
    let page = browser.driver.current_url().await?;
    let page = page
        .join(path.json().as_str().unwrap_or_default())
        .expect("an address");
    browser.driver.goto(page.as_str()).await?;
    browser.text("mapped from the source group").await?;
    browser.text("Members (").await?;
    browser.look("group").await?;
    browser.driver.back().await?;
    browser.driver.back().await
}

/// Who takes part, who does not and who waits; an edit shows its effect before it is saved.
async fn scopes(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Systems").await?;
    browser
        .click("//article[.//a[normalize-space(.)='harbour']]//a[normalize-space(.)='Scope']")
        .await?;
    browser.text("293 in scope").await?;
    browser.text("has no employee number").await?;
    browser
        .click("//button[contains(@class, 'reason') and contains(., 'address outside our domain')]")
        .await?;
    browser.text("uid=vaino.mnswr").await?;
    browser.look("scope").await?;
    browser.button("Edit scope").await?;
    browser
        .fill("groups", "cn=deck-watch,ou=groups,dc=skerry,dc=example")
        .await?;
    browser.text("from in scope to out of scope").await?;
    browser.text("not a member of cn=deck-watch").await?;
    browser.look("scope-edit").await?;
    browser.fill("filter", "(title=").await?;
    browser.text("not a filter").await?;
    browser.button("Cancel").await?;
    Ok(())
}

/// A doubtful match is seen side by side, answered, and the answer taken back.
async fn matches(browser: &Browser) -> WebDriverResult<()> {
    browser.page("Systems").await?;
    browser
        .click("//article[.//a[normalize-space(.)='berthing']]//a[normalize-space(.)='Matches']")
        .await?;
    browser.text("matches need review").await?;
    browser.text("2 accounts match by employee number").await?;
    browser.look("matches").await?;
    browser
        .click("//tr[contains(., 'ambiguous: 2 accounts')]//button")
        .await?;
    browser.text("Never these two").await?;
    browser.look("match-case").await?;
    browser
        .click("//tr[@class='say']/td[2]//button[normalize-space(.)='Link these two']")
        .await?;
    browser.text("Answers in effect").await?;
    browser
        .click("//button[contains(., 'will be linked')]")
        .await?;
    browser.text("decided by first operator").await?;
    browser.button("Take back").await?;
    browser.click("//button[contains(., 'ambiguous')]").await?;
    browser.text("2 accounts match by employee number").await?;
    Ok(())
}

/// The rules are edited in a draft: an error is underlined, an expression evaluated, and the impact
/// shown before anything is published.
async fn drafts(browser: &Browser) -> WebDriverResult<()> {
    let keys = |text: &str| text.to_owned();
    browser.page("Rules").await?;
    browser.button("Edit in a draft").await?;
    browser
        .text("a draft has no effect until it is published")
        .await?;
    browser
        .click("//nav[@aria-label='Files']//button[contains(., 'berthing.toml')]")
        .await?;
    let text = browser.driver.query(By::Css(".cm-content")).first().await?;
    text.click().await?;
    text.send_keys(Key::Control + "\u{e010}").await?;
    let capitals = "\n[[person.population]]\nname = \"capitals\"\nwhen = 'true'\n[person.population.outbound]\ntitle = 'upper(identity.titl)'";
    text.send_keys(keys(capitals)).await?;
    browser.text("unknown attribute `identity.titl`").await?;
    browser.text("did you mean `identity.title`?").await?;
    browser
        .driver
        .query(By::Css(".cm-lintRange-error"))
        .first()
        .await?;
    browser.button("Evaluate").await?;
    browser.fill("expression", "upper(identity.title)").await?;
    browser.fill("on", "1009").await?;
    browser.text("the rules have 1 error").await?;
    text.send_keys(keys("\u{e012}\u{e012}e")).await?;
    browser.text("No errors or warnings").await?;
    browser
        .fill(
            "expression",
            "upper(identity.title) + ' of ' + identity.port",
        )
        .await?;
    browser.text("= PLANNER of Northhaven").await?;
    browser.look("draft").await?;
    browser.fill("expression", " ").await?;
    browser
        .driver
        .find(By::Css("#evaluate-system option[value='berthing']"))
        .await?
        .click()
        .await?;
    browser.text("enterprise.manager.value").await?;
    browser.button("Show impact").await?;
    browser.text("values in 1 system").await?;
    browser.look("draft-impact").await?;
    browser.button("Differences").await?;
    browser.text("title = 'upper(identity.title)'").await?;
    browser.look("draft-difference").await?;
    browser.button("Publish…").await?;
    browser.text("Publishing sends nothing").await?;
    browser.button("Cancel").await?;
    browser.button("Discard draft").await
}

/// An edit without an impact is published, compared and rolled back.
async fn versions(browser: &Browser) -> WebDriverResult<()> {
    browser.button("Edit in a draft").await?;
    browser
        .text("a draft has no effect until it is published")
        .await?;
    let text = browser.driver.query(By::Css(".cm-content")).first().await?;
    text.click().await?;
    text.send_keys(Key::Control + "\u{e010}").await?;
    text.send_keys("\n# kept by hand").await?;
    browser.button("Differences").await?;
    browser.text("# kept by hand").await?;
    browser
        .driver
        .query(By::XPath(
            "//button[contains(., 'Publish…') and not(@disabled)]",
        ))
        .first()
        .await?;
    browser.button("Publish…").await?;
    browser.text("No impact").await?;
    browser
        .click("//div[contains(@class, 'p-dialog')]//button[normalize-space(.)='Publish']")
        .await?;
    browser.text("Version 2, published").await?;
    browser.click("//a[normalize-space(.)='Versions']").await?;
    browser.button("Compare version 1 with version 2").await?;
    browser.text("# kept by hand").await?;
    browser.look("history").await?;
    browser.button("Draft of version 1").await?;
    browser.text("back to version 1").await?;
    browser.button("Discard draft").await?;
    browser.text("Edit in a draft").await
}

/// Somebody else saves the same draft, and publishes meanwhile: nothing is written over without a
/// word.
async fn two_at_once(browser: &Browser) -> WebDriverResult<()> {
    const OTHER: &str = "const [change, done] = arguments; const at = '/api/v1/rules/drafts/' + location.pathname.split('/').pop();
        const put = (url, body) => fetch(url, {method: 'PUT', headers: {'content-type': 'application/json'}, body: JSON.stringify(body)});
        const added = files => files.map(f => f.name === 'berthing.toml' ? {name: f.name, text: f.text + change} : {name: f.name, text: f.text});
        const about = change.includes('published') ? '/api/v1/rules' : at;
        fetch(about).then(r => r.json()).then(it => put(about, {edition: it.edition, files: added(it.files)})).then(r => done(r.status))";
    let other = |change: &'static str| async move {
        let status: i64 = browser
            .driver
            .execute_async(OTHER, vec![serde_json::json!(change)])
            .await?
            .convert()?;
        assert!((200..300).contains(&status), "{status}");
        WebDriverResult::Ok(())
    };
    let write = |text: &'static str| async move {
        let editor = browser.driver.query(By::Css(".cm-content")).first().await?;
        editor.click().await?;
        editor.send_keys(Key::Control + "\u{e010}").await?;
        editor.send_keys(text).await
    };
    browser.button("Edit in a draft").await?;
    browser
        .text("a draft has no effect until it is published")
        .await?;
    browser
        .click("//nav[@aria-label='Files']//button[contains(., 'berthing.toml')]")
        .await?;
    other("\n# theirs").await?;
    write("\n# mine").await?;
    browser.text("Overwrite with mine").await?;
    browser.button("Load their text, discard mine").await?;
    browser.text("# theirs").await?;
    browser.gone("# mine").await?;
    other("\n# theirs again").await?;
    write("\n# mine anew").await?;
    browser.button("Overwrite with mine").await?;
    browser.gone("Overwrite with mine").await?;
    browser.driver.refresh().await?;
    browser
        .click("//nav[@aria-label='Files']//button[contains(., 'berthing.toml')]")
        .await?;
    // The editor shows the lines that are in sight.
    write("").await?;
    browser.text("# mine anew").await?;
    other("\n# published").await?;
    browser.driver.refresh().await?;
    browser
        .text("was published after this draft was created")
        .await?;
    browser.button("Rebase").await?;
    browser
        .text("Changed in the draft and in the published rules")
        .await?;
    browser.button("Discard draft").await?;
    browser.text("Edit in a draft").await
}

#[tokio::test(flavor = "multi_thread")]
async fn the_seven_steps_in_the_console() {
    drop(common::http());
    let demo = Running::start(&[
        "demo",
        "--slow",
        "200",
        "--directory",
        "slapd",
        "--listen",
        "127.0.0.1:0",
    ]);
    let printed = Printed::of(&demo);
    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = std::sync::Arc::new(
        Browser::open(driver.port, profile.path())
            .await
            .expect("Chromium starts"),
    );
    // In a task of its own: a panic with a live session would wait for minutes.
    let told = browser.clone();
    let ended = tokio::spawn(async move {
        story(&told, &printed).await?;
        drop(demo);
        season(&told).await
    })
    .await;
    if !matches!(ended, Ok(Ok(())))
        && let Ok(folder) = std::env::var("EAGER_TIDE_PICTURES")
    {
        let _ = browser
            .driver
            .screenshot(&std::path::Path::new(&folder).join("failed.png"))
            .await;
    }
    let _ = browser.driver.clone().quit().await;
    drop(driver);
    match ended {
        Ok(result) => {
            result.expect("every step works");
            assert_eq!(
                *browser.faults.lock().unwrap(),
                Vec::<String>::new(),
                "accessibility"
            );
        }
        Err(panic) => std::panic::resume_unwind(panic.into_panic()),
    }
}
