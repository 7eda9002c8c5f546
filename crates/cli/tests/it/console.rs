//! The console in a real browser.

use fantoccini::Locator;
use nomenta_world::customer::{self, Mistake};

use crate::browser::Browser;
use crate::stage::{self, ADMIN, fresh_zone, stage};

#[test]
fn a_domain_is_enrolled_at_the_form_and_watched_to_live_without_a_reload() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let browser = Browser::open(stage::BASE_PORT + 20).await;
        browser.try_key(&url, "wrong").await;
        browser.read("This key is unknown or revoked. Ask an admin for one.").await;
        browser.sign_in(&url, ADMIN).await;
        browser.read("Roster").await;

        let zone = fresh_zone("console");
        stage.world.zones.register(&zone).await.expect("registered");
        browser.press("Enrol a domain").await;
        browser.type_into("#host", "192.0.2.7").await;
        browser.press("Enrol").await;
        browser.read("Choose the site that the domain will show.").await;
        browser.click(".el-select").await;
        browser.click(".el-select-dropdown__item").await;
        browser.press("Enrol").await;
        browser
            .read(
                "192.0.2.7 is an IP address, or is read as one. Type the domain name that visitors will open",
            )
            .await;

        // What was chosen before is kept; only the name is typed again.
        browser.type_into("#host", &format!("https://Rides.{zone}/start")).await;
        browser.press("Enrol").await;
        browser.see("section[data-stage='ownership']").await;
        browser.page.execute("window.notReloaded = true", Vec::new()).await.expect("marked");

        let host = format!("rides.{zone}");
        let sheet = stage.service.cli_json(&["sheet", &host, "--reveal"]).await;
        let sheet = serde_json::from_value(sheet).expect("a sheet");
        let mistake = Some(Mistake::CnameForeign);
        customer::publish(&stage.world.zones, &sheet, mistake).await.expect("published wrongly");
        browser.see("[data-code='cname-foreign']").await;
        browser.read("Change the CNAME record at rides to onswick.edge.quaymark.example.").await;
        let why = browser.see(".states .blocked div").await.text().await.expect("a reason");
        assert_eq!(why, "cname-foreign", "short, since the finding itself is below");
        customer::publish(&stage.world.zones, &sheet, None).await.expect("mended");
        browser.see("[data-stage='live']").await;
        browser.read("serving: waiting → passed").await;
        let gates = browser.see("svg.posts").await.attr("aria-label").await.expect("a label");
        assert_eq!(
            gates.as_deref(),
            Some("ownership passed, routing passed, certificate passed, serving passed")
        );
        let kept = browser.page.execute("return window.notReloaded", Vec::new()).await.expect("asked");
        assert_eq!(kept, true, "the page was reloaded");
        browser.close().await;
    });
}

#[test]
fn the_panes_of_a_domain_hand_over_compare_and_rehearse() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let zone = fresh_zone("panes");
        stage.world.zones.register(&zone).await.expect("registered");
        customer::have_mail(&stage.world.zones, &zone).await.expect("mail");
        let sheet = stage.service.enrol(&stage.world, &zone).await;
        stage.service.looked_at(&zone).await;
        let browser = Browser::open(stage::BASE_PORT + 25).await;
        browser.sign_in(&format!("{url}/domains/{zone}?pane=sheet"), ADMIN).await;
        browser.read("all of these addresses, and no others").await;
        browser.read("Typed as the editor of Harrow DNS wants it.").await;
        let token = sheet.lines[0].value.clone();
        assert!(!browser.text().await.contains(&token), "the token is shown unasked");
        browser.press("Show the token").await;
        browser.read(&token).await;

        browser.click("#tab-baseline").await;
        browser.read("Save as zone-file lines").await;
        browser.read(&format!("10 mx.{zone}")).await;

        browser.click("#tab-rehearsal").await;
        browser.press("Rehearse").await;
        browser.read("Paste the zone file first").await;
        browser.type_into("#zone", "@ 300 A 192.0.2.7\n@ 300 A 192.0.2").await;
        browser.press("Rehearse").await;
        browser.read("Line 2: A wants an IPv4 address, and has 192.0.2.").await;
        // What was typed is kept; a whole file is judged with its lines named.
        browser.type_into("#zone", "@ 300 A 192.0.2.7\n@ 300 MX 10 mx").await;
        browser.press("Rehearse").await;
        browser.see("[data-rehearsed] [data-code='address-foreign']").await;
        browser.read("address-foreign, line 1").await;
        browser.read("With these changes it passes ownership and routing.").await;
        browser.close().await;
    });
}

#[test]
fn the_roster_follows_what_happens_and_filters_by_name() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let browser = Browser::open(stage::BASE_PORT + 21).await;
        browser.sign_in(&url, ADMIN).await;
        let zone = fresh_zone("watch");
        browser.type_into("input[aria-label='Part of a name']", &zone).await;
        browser.read("No domain fits.").await;
        let sheet = stage.service.enrol(&stage.world, &zone).await;
        browser.see(&format!("tr[data-host='{zone}'][data-stage='ownership']")).await;
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        browser.see(&format!("tr[data-host='{zone}'][data-stage='live']")).await;
        let rows = browser.page.find_all(Locator::Css("tbody tr")).await.expect("rows");
        assert_eq!(rows.len(), 1);
        browser.close().await;
    });
}

#[test]
fn a_viewer_sees_everything_and_is_offered_nothing_to_change() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let (_, key) =
            stage.service.post("keys", &serde_json::json!({ "name": "a viewer", "role": "viewer" })).await;
        let browser = Browser::open(stage::BASE_PORT + 23).await;
        // Where one wanted to go is where one arrives after signing in.
        let host = fresh_zone("viewer");
        stage.service.enrol(&stage.world, &host).await;
        browser.sign_in(&format!("{url}/domains/{host}"), key["secret"].as_str().expect("a secret")).await;
        browser.see("svg.posts.large").await;
        browser.read(&format!("What to publish in {host}")).await;
        browser.read("a viewer, viewer").await;
        browser.page.goto(&url).await.expect("the roster");
        browser.see("tbody tr").await;
        let buttons =
            browser.page.find_all(Locator::XPath("//button[contains(., 'Enrol')]")).await.expect("asked");
        assert!(buttons.is_empty(), "a viewer is offered to enrol");

        browser.page.goto(&format!("{url}/domains/unknown.example")).await.expect("a page");
        browser.read("There is no domain named unknown.example. Check the spelling.").await;
        browser.press("Sign out").await;
        browser.see("#key").await;
        browser.page.goto(&url).await.expect("the console");
        browser.see("#key").await;
        browser.close().await;
    });
}

#[test]
fn the_stage_bar_filters_and_the_theme_is_remembered() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let host = fresh_zone("bar");
        stage.service.enrol(&stage.world, &host).await;
        let browser = Browser::open(stage::BASE_PORT + 24).await;
        browser.sign_in(&url, ADMIN).await;
        browser.type_into("input[aria-label='Part of a name']", &host).await;
        browser.see(&format!("tr[data-host='{host}']")).await;
        browser.click("[aria-label='Domains by stage'] button:last-child").await;
        browser.read("No domain fits.").await;
        browser.click("[aria-label='Domains by stage'] button:first-child").await;
        browser.see(&format!("tr[data-host='{host}'][data-stage='ownership']")).await;

        let dark = "return document.documentElement.classList.contains('dark')";
        let before = browser.page.execute(dark, Vec::new()).await.expect("asked");
        let word = if before == true { "Light" } else { "Dark" };
        browser.press(word).await;
        browser.page.refresh().await.expect("reloaded");
        browser.see("tbody tr").await;
        let after = browser.page.execute(dark, Vec::new()).await.expect("asked");
        assert_ne!(before, after, "the theme is kept over a reload");
        let own = "const style = getComputedStyle(document.documentElement);
                   return style.getPropertyValue('--el-color-primary') === style.getPropertyValue('--act')";
        assert_eq!(browser.page.execute(own, Vec::new()).await.expect("asked"), true, "the colours are ours");
        browser.close().await;
    });
}

#[test]
fn a_certificate_is_shown_asked_about_brought_and_revoked() {
    stage();
    stage::run(async {
        let (stage, url) = (stage(), stage().service.setup.url());
        let host = format!("board.{}", fresh_zone("certificate"));
        let sheet = stage.service.enrol(&stage.world, &host).await;
        customer::publish(&stage.world.zones, &sheet, None).await.expect("published");
        stage.service.live(&host).await;
        let first = stage.service.serial(&host).await;
        let browser = Browser::open(stage::BASE_PORT + 26).await;
        browser.sign_in(&format!("{url}/domains/{host}?pane=certificate"), ADMIN).await;
        browser.read("Held and served").await;
        browser.read(&first).await;
        browser.read(&format!("Issued with serial {first}.")).await;
        let life = browser.see("svg[aria-label^='Valid from']").await;
        assert!(
            life.attr("aria-label")
                .await
                .expect("a label")
                .is_some_and(|l| l.contains("runs out in 89 days"))
        );
        browser.press("Preflight").await;
        browser.read("No CAA record restricts issuers.").await;
        browser.read("Nothing was ordered.").await;

        browser.press("Bring one").await;
        browser.type_into("#chain", "not a certificate").await;
        browser.type_into("#key", "not a key").await;
        browser.press("Serve it").await;
        browser.read("The chain holds no certificate. Paste PEM text").await;
        let authority = nomenta_world::tls::Authority::open(&stage.world.layout).expect("an authority");
        let pem = authority.issue(std::slice::from_ref(&host), 20).expect("issued");
        browser.type_into("#chain", &pem.chain).await;
        browser.press("Serve it").await;
        // The chain is right by now, and is kept while the key is mended.
        browser.read("The key cannot be read.").await;
        browser.type_into("#key", &pem.key).await;
        browser.press("Serve it").await;
        browser.read("by the customer, who brought it in").await;
        browser.click("#tab-now").await;
        browser.read("certificate-expiring").await;

        browser.page.goto(&format!("{url}/certificates")).await.expect("the page");
        browser.read("in 19 days").await;
        let chart = browser.see("[aria-label*='Within four weeks']").await;
        assert!(chart.attr("aria-label").await.expect("a label").is_some_and(|l| l.contains("1 run out")));

        browser.page.goto(&format!("{url}/domains/{host}?pane=certificate")).await.expect("the page");
        browser.press("Revoke").await;
        browser.read("It cannot be taken back.").await;
        browser.click(".el-dialog .el-button--danger").await;
        // The one from the CA is revoked, the other given up, and a new one comes.
        browser.read(&format!("{first} keyCompromise")).await;
        browser.read("by the CA on").await;
        stage.service.live(&host).await;
        browser.read(&stage.service.serial(&host).await).await;
        browser.press("Release").await;
        browser.read("The customer should take its records back.").await;
        browser.press("Release it").await;
        browser.read("has left the platform").await;
        browser.close().await;
    });
}
