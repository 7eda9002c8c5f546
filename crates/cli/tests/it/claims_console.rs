//! Accounts, contests and the life of a domain, in a real browser.

use nomenta_core::sheet::line::Purpose;
use nomenta_world::customer;

use crate::browser::Browser;
use crate::claims::Rival;
use crate::own::{own, own_setup, with};
use crate::stage::{self, ADMIN, BASE_PORT, fresh_zone, stage};

#[test]
fn a_contest_is_followed_from_the_claim_to_the_switched_route() {
    stage();
    stage::run(async {
        let own = own(with(own_setup("seen", 119).await, &["--look-contested=1"]), "seen", 119).await;
        let rival = Rival::join(&own, "selkhaven").await;
        let zones = &stage().world.zones;
        let host = format!("lines.{}", fresh_zone("seen"));
        own.published(&host).await;
        own.live(&host).await;

        let url = own.setup.url();
        let browser = Browser::open(BASE_PORT + 37).await;
        browser.sign_in(&format!("{url}/contests"), ADMIN).await;
        browser.read("No name is contested.").await;
        let theirs = rival.enrol(&own, &host).await;
        customer::publish_only_also(zones, &theirs, Purpose::Ownership).await.expect("published");

        // It comes without a reload, with what the zone says of both tokens.
        browser.see(&format!("article[data-contest='{host}']")).await;
        browser.read("Both tokens stand in the zone. Rule whose the name is.").await;
        for side in ["holder", "challenger"] {
            browser.see(&format!("[data-side='{side}'] svg[aria-label='match']")).await;
        }
        browser.press("The name is selkhaven’s").await;
        browser.read("goes on being served until the certificate of selkhaven is there").await;
        browser.press("Rule so").await;
        browser.read("What belongs there: why, for the record.").await;
        browser.type_into("#because", "the line was sold").await;
        browser.press("Rule so").await;
        browser.read("No name is contested.").await;
        browser.press("Show those that are settled").await;
        browser.read("The challenger has the name.").await;
        browser.read("Ruled for the challenger").await;

        browser.page.goto(&format!("{url}/accounts/selkhaven")).await.expect("the page");
        browser.see(&format!("tr[data-host='{host}'][data-stage='live']")).await;
        browser.page.goto(&format!("{url}/accounts/onswick")).await.expect("the page");
        browser.read("No domain of this account is on the platform.").await;
        browser.page.goto(&format!("{url}/domains/{host}?account=onswick")).await.expect("the page");
        browser.read("Another claim has the name; this one ended").await;
        browser.read("Lost the name to another claim.").await;
        browser.close().await;
        own.daemon.stop().await;
    });
}

#[test]
fn an_account_is_changed_suspended_and_resumed_and_its_domain_moved_and_paused() {
    stage();
    stage::run(async {
        let own = own(own_setup("kept", 120).await, "kept", 120).await;
        own.cli_json(&["site", "add", "onswick-night", "--account", "onswick", "--ingress", "harbour"]).await;
        let host = format!("lines.{}", fresh_zone("kept"));
        own.published(&host).await;
        own.live(&host).await;

        let url = own.setup.url();
        let browser = Browser::open(BASE_PORT + 38).await;
        browser.sign_in(&format!("{url}/accounts"), ADMIN).await;
        browser.click("tr[data-account='onswick'] a").await;
        browser.see(&format!("tr[data-host='{host}'][data-stage='live']")).await;
        browser.press("Change").await;
        browser.type_into("#contact", "nobody").await;
        browser.press("Keep it").await;
        browser.read("What belongs there: mail address to write to").await;
        browser.type_into("#contact", "office@onswick.example").await;
        browser.press("Keep it").await;
        browser.read("office@onswick.example").await;
        browser.press("Suspend").await;
        browser.see("section[data-suspended='true']").await;
        browser.press("Resume").await;
        browser.see("section[data-suspended='false']").await;

        browser.page.goto(&format!("{url}/domains/{host}")).await.expect("the page");
        browser.press("Pause").await;
        browser.see("section[data-stage='paused']").await;
        browser.press("Resume").await;
        browser.see("section[data-stage='live']").await;
        browser.press("Move").await;
        browser.type_into("#entry", "tonight").await;
        browser.press("Change it").await;
        browser.read("a path that begins with one slash").await;
        browser.type_into("#entry", "/tonight").await;
        browser.press("Change it").await;
        browser.read("Given other paths.").await;
        browser.close().await;
        own.daemon.stop().await;
    });
}
