//! Many domains at once in the console, and who may do what.

use fantoccini::Locator;
use nomenta_world::wait_for;
use serde_json::json;

use crate::browser::Browser;
use crate::stage::{self, ADMIN, BASE_PORT, TIME_LIMIT, fresh_zone, stage};

#[test]
fn a_pasted_table_is_judged_row_by_row_and_then_taken_in() {
    stage();
    stage::run(async {
        let (service, url) = (&stage().service, stage().service.setup.url());
        let browser = Browser::open(BASE_PORT + 28).await;
        browser.sign_in(&format!("{url}/intake"), ADMIN).await;
        let zone = fresh_zone("pasted");
        browser.type_into("#table", &format!("a.{zone},onswick")).await;
        browser.read("The first line names no column host").await;

        let table =
            format!("host,site\na.{zone},onswick\nb.{zone},onswick\n192.0.2.7,onswick\nc.{zone},nowhere\n");
        browser.type_into("#table", &table).await;
        browser.see("tr[data-result='new']").await;
        browser.see("tr[data-result='bad-name']").await;
        browser.read("There is no site nowhere. Check the spelling, or add the site first.").await;
        assert_eq!(service.get(&format!("domains?text={zone}")).await.1, json!([]), "it was only judged");

        // What is to be corrected is shown alone, and corrected in its place.
        browser.press("1 unknown site").await;
        let rows = browser.page.find_all(Locator::Css("tbody tr")).await.expect("rows");
        assert_eq!(rows.len(), 1);
        browser.type_into("#table", &table.replace("nowhere", "onswick")).await;
        browser.press("Take in 3").await;
        browser.see("tr[data-result='taken-in']").await;
        browser.read("Nothing to take in").await;
        let taken = service.get(&format!("domains?text={zone}")).await.1;
        assert_eq!(taken.as_array().map(Vec::len), Some(3));
        browser.close().await;
    });
}

#[test]
fn filters_stand_in_the_address_are_saved_as_a_view_and_say_what_is_worked_on() {
    stage();
    stage::run(async {
        let (service, url) = (&stage().service, stage().service.setup.url());
        let zone = fresh_zone("views");
        for n in 0..3 {
            service.enrol(&stage().world, &format!("w{n}.{zone}")).await;
        }
        let browser = Browser::open(BASE_PORT + 29).await;
        browser.sign_in(&format!("{url}/?text={zone}&younger_than=2"), ADMIN).await;
        browser.see(&format!("tr[data-host='w2.{zone}']")).await;
        browser.read("Filters (1)").await;
        browser.press("Save this view").await;
        browser.type_into("input[aria-label='Name of the view']", "Those of today").await;
        browser.press("Save").await;
        browser.see("nav[aria-label='Saved views'] a[aria-current='page']").await;
        browser.page.goto(&url).await.expect("the roster");
        browser.see("tbody tr").await;
        browser.click("nav[aria-label='Saved views'] a").await;
        browser.see(&format!("tr[data-host='w0.{zone}']:first-child")).await;
        browser.see(&format!("tr[data-host='w2.{zone}']:last-child")).await;
        let address = browser.page.current_url().await.expect("an address").to_string();
        assert!(address.contains("younger_than=2") && address.contains(&zone), "{address}");

        // By keys alone: down to the second row.
        let keys = "document.activeElement.blur(); for (const key of ['j', 'j'])
                    document.dispatchEvent(new KeyboardEvent('keydown', { key })); return document.activeElement.textContent";
        let at = browser.page.execute(keys, Vec::new()).await.expect("pressed");
        assert_eq!(at, format!("w1.{zone}"));

        browser.press("Do to all …").await;
        browser.read("3 of 3 domains would be changed.").await;
        browser.click(".el-dialog .el-select").await;
        browser.choose("Pause").await;
        browser.press("Pause: 3").await;
        browser.see("[data-state='done']").await;
        browser.read("3 done").await;
        browser.see("tr[data-result='changed']").await;
        let paused = service.get(&format!("domains?text={zone}&stage=paused")).await.1;
        assert_eq!(paused.as_array().map(Vec::len), Some(3));
        browser.click("nav a[href='/jobs']").await;
        browser.read(&format!("text {zone}, younger than 2")).await;
        browser.close().await;
    });
}

#[test]
fn keys_are_made_and_revoked_and_what_was_changed_is_read() {
    stage();
    stage::run(async {
        let (service, url) = (&stage().service, stage().service.setup.url());
        let name = fresh_zone("key").replace(".example", "");
        let browser = Browser::open(BASE_PORT + 30).await;
        browser.sign_in(&format!("{url}/access"), ADMIN).await;
        browser.press("Make a key").await;
        browser.press("Make it").await;
        browser.see(".el-form-item__error").await;
        browser.type_into("#key-name", &name).await;
        browser.press("Make it").await;
        browser.read("Copy it now: it is not shown again.").await;
        let secret = browser.see(".made .record").await.text().await.expect("a secret");
        let secret = secret.split_whitespace().next().expect("a secret").to_owned();
        let opens = async || {
            let answer = service.request("GET", "session", &secret).send().await.expect("an answer");
            answer.status() == 200
        };
        assert!(opens().await);
        browser.press("Done").await;
        browser.click(&format!("tr[data-key='{name}'] button")).await;
        browser.press("Revoke it").await;
        wait_for("the key opening nothing", TIME_LIMIT, || async { !opens().await }).await.expect("revoked");

        browser.press("Sessions").await;
        browser.read("your own").await;
        browser.page.goto(&format!("{url}/access?pane=audit&name={name}")).await.expect("the page");
        browser.see("tr[data-kind='key']").await;
        browser.read("key added").await;
        browser.read("revoked at").await;
        browser.close().await;
    });
}
