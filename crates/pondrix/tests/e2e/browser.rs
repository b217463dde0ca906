//! The console, in a real browser.

use fantoccini::Locator;
use pondrix_core::pipeline::TemplateName;
use pondrix_standin::garden::{GLASSHOUSE_BASE, PLANT_LABELS, VISITOR_DESK};
use reqwest::Method;

use crate::chromium::Browser;
use crate::openid::Place;
use crate::someone::Someone;
use crate::support::{Server, World, one_job, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_with_a_password_and_the_page_remembers_the_way() {
    let world = World::new().await;
    assert!(world.pondrix_with(&["user", "password"], "lilies in the pond 4711").0);
    let browser = Browser::new().await;
    browser.client.goto(world.url()).await.unwrap();
    browser.click("#with-password").await;
    browser.sees("#name").await;
    browser.picture("console-sign-in").await;
    let write = async |css: &str, text: &str| {
        browser.sees(css).await;
        let field = browser.client.find(Locator::Css(css)).await.unwrap();
        field.clear().await.unwrap();
        field.send_keys(text).await.unwrap();
    };
    write("#name", "admin").await;
    write("#password", "a wrong password").await;
    browser.click("button[type=submit]").await;
    browser.reads("here is nobody of this name with this password").await;
    write("#password", "lilies in the pond 4711").await;
    browser.click("button[type=submit]").await;
    browser.reads("Sign out").await;
    browser.click("#sign-out").await;
    browser.sees("#password").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_is_signed_in_by_the_provider_and_told_why_where_not() {
    let place = Place::new(&[]).await;
    let browser = Browser::new().await;
    place.provider.person(&serde_json::json!({ "sub": "1", "preferred_username": "admin" }));
    browser.client.goto(&format!("{}/images", place.world.url())).await.unwrap();
    browser.click("#with-openid").await;
    browser.reads("omebody called admin is known here already").await;
    place.provider.person(&serde_json::json!({ "sub": "2", "preferred_username": "wren" }));
    browser.client.goto(&format!("{}/images", place.world.url())).await.unwrap();
    browser.click("#with-openid").await;
    browser.reads("Sign out").await;
    assert!(browser.client.current_url().await.unwrap().path().ends_with("/images"), "where they wanted to go");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_watches_a_run_live_and_reads_a_log_with_its_colours() {
    let world = World::new().await;
    let browser = Browser::new().await;
    browser.client.goto(world.url()).await.unwrap();
    browser.sees("#token").await;
    browser.client.find(Locator::Css("#token")).await.unwrap().send_keys("wrong").await.unwrap();
    browser.click("button[type=submit]").await;
    browser.reads("this token is not known").await;
    browser.sign_in(&world).await;
    browser.reads("No runs yet.").await;

    let script = "printf '\\\\033[32mgreen\\\\033[0m and \\\\033[1mbold\\\\033[0m\\\\n'; while [ ! -e /tmp/never ]; do echo tick; sleep 0.2; done";
    let (repository, run) =
        world.run_of_pipeline("plant-labels", &one_job(&format!("limit time=\"2m\"; step \"{script}\""))).await;
    // The list shows it without being asked again.
    browser.click("a[href='/runs/plant-labels/1']").await;
    browser.reads("tick").await;
    let green = browser.client.find(Locator::XPath("//*[@role='log']//span[text()='green']")).await.unwrap();
    assert!(green.attr("style").await.unwrap().unwrap().contains("color"), "green is not green");
    browser.sees("[aria-label='The run against time'] a[aria-current='true']").await;
    browser.click("main button").await;
    world.end_of(&run).await;
    browser.reads("stopped by admin").await;

    repository.write("pondrix.kdl", &one_job("step \"echo the beds are dry; exit 4\"")).unwrap();
    repository.push("A failing step").unwrap();
    browser.client.goto(world.url()).await.unwrap();
    browser.click("a[href='/runs/plant-labels/2']").await;
    browser.reads("exit status 4").await;
    browser.reads("the beds are dry").await;
    browser.reads("critical path").await;
    browser.reads("Run the rest").await;
    browser.click("main button").await;
    browser.reads("a rerun of #2").await;
    world.end_of(&"plant-labels#3".parse().unwrap()).await;
    browser.client.goto(&format!("{}/runs/plant-labels/99", world.url())).await.unwrap();
    browser.reads("there is no run plant-labels#99").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_release_is_drawn_against_time_and_leads_to_the_application() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let commit = repository.push("Opening hours and a greeting").unwrap();
    let run = world.run_of("visitor-desk", &commit).await;
    world.passes(&run).await;
    repository.write("desk/greeting.txt", "Good evening from Fernhollow\n").unwrap();
    let commit = repository.push("A greeting for the evening").unwrap();
    world.passes(&world.run_of("visitor-desk", &commit).await).await;
    repository.write("desk/hours.txt", "Monday closed\n").unwrap();
    let commit = repository.push("Shorter hours").unwrap();
    world.end_of(&world.run_of("visitor-desk", &commit).await).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.reads("visitor-desk#3").await;
    browser.picture("console-runs").await;
    browser.client.goto(&format!("{}/runs/visitor-desk/2/package/desk", world.url())).await.unwrap();
    browser.reads("pushed registry.fernhollow.test/visitor/desk@sha256:").await;
    browser.picture("console-run").await;
    browser.client.goto(&format!("{}/runs/visitor-desk/3", world.url())).await.unwrap();
    browser.reads("not ok: the hours name 1 days of 7").await;
    browser.picture("console-run-failed").await;
    browser.client.execute("localStorage.setItem('pondrix-theme', 'dark')", Vec::new()).await.unwrap();
    browser.client.goto(&format!("{}/runs/visitor-desk/2/staging/desk", world.url())).await.unwrap();
    browser.reads("2 of 2 replicas are new and ready").await;
    browser.picture("console-run-dark").await;
    browser.client.goto(&format!("http://{}/", world.application)).await.unwrap();
    browser.reads("Good evening from Fernhollow").await;
    browser.picture("application").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_draws_a_plan_tells_what_is_missing_asks_a_person_and_does_runs_again() {
    let world = World::new().await;
    let (repository, _) = world.project("visitor-desk", VISITOR_DESK).await;
    let pipeline = VISITOR_DESK.iter().find(|(path, _)| *path == "pondrix.kdl").unwrap().1;
    let more = r#"
stage "production" {
    when branch="main"
    exclusive "gate"
    approval "Open it to the visitors?" within="3d"
    job "announce" { container "registry.fernhollow.test/base/shell:1"; secret "RADIO_KEY"; step "echo open" }
}
stage "sweep" {
    when result="any" start="schedule"
    job "beds" { container "registry.fernhollow.test/base/shell:1"; step "true" }
}
start schedule="15 5 * * 1-5" zone="Europe/Lisbon"
"#;
    let job = r#"    job "labels" {
        matrix { base "shell" "web" }
        after "unit"
        retry 2 only="lost"
        container "registry.fernhollow.test/base/{matrix.base}:1"
        step "echo printed"
    }
    job "count" { after "labels"; container "registry.fernhollow.test/base/shell:1"; step "echo counted" }
"#;
    let text = pipeline.replacen("stage \"verify\" {\n", &format!("stage \"verify\" {{\n{job}"), 1) + more;
    repository.write("pondrix.kdl", &text).unwrap();
    let first = world.run_of("visitor-desk", &repository.push("A gate for the visitors").unwrap()).await;
    world.end_of(&first).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.client.goto(&format!("{}/plan/visitor-desk", world.url())).await.unwrap();
    browser.reads("asks: Open it to the visitors?").await;
    browser.reads("labels:web").await;
    browser.reads("only when started by schedule, and this was by commit").await;
    browser.picture("console-plan").await;

    browser.client.goto(&format!("{}/runs/visitor-desk/1", world.url())).await.unwrap();
    browser.reads("visitor-desk has no secret `RADIO_KEY`").await;
    browser.reads("pondrix secret set visitor-desk RADIO_KEY").await;
    browser.picture("console-preflight").await;
    world.client.set_secret(&"visitor-desk".parse().unwrap(), "RADIO_KEY", "waves").await.unwrap();
    browser.click("main button").await;
    browser.reads("visitor-desk#2").await;
    browser.reads("production asks: Open it to the visitors?").await;
    browser.reads("a rerun of #1").await;
    browser.click("a[href='/runs/visitor-desk/2/verify/unit']").await;
    browser.reads("3 tests passed").await;
    browser.picture("console-approval").await;
    browser.click("[role=alertdialog] button").await;
    let second = "visitor-desk#2".parse().unwrap();
    world.passes(&second).await;
    browser.reads("Run everything").await;
    let address = browser.client.find(Locator::Css("a[download]")).await.unwrap().attr("href").await.unwrap().unwrap();
    let archive = reqwest::Client::new().get(format!("{}{address}", world.url())).bearer_auth(&world.token);
    let archive = archive.send().await.unwrap();
    assert!(archive.status().is_success(), "{}", archive.status());
    assert!(archive.bytes().await.unwrap().starts_with(&[0x1f, 0x8b]), "the files come as an archive");
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_shows_the_template_that_it_used_the_service_beside_it_and_flaky_tests() {
    let world = World::new().await;
    let (platform, _) = world.project("glasshouse-base", GLASSHOUSE_BASE).await;
    let commit = platform.push("The base images, and a template").unwrap();
    platform.push_tag("1", &commit).unwrap();
    // What it pushes would start what is built on it.
    world.passes(&world.run_of("glasshouse-base", &commit).await).await;
    let set = world.pondrix(&["project", "set", "glasshouse-base", "--templates", "yes"]).await;
    assert_eq!(set.status, 0, "{set:?}");
    let name = TemplateName::new("printed", "glasshouse-base", "templates", "1").unwrap();
    until("the template", async || world.client.template(&name).await.is_ok().then_some(())).await;
    let (repository, _) = world.project("plant-labels", PLANT_LABELS).await;
    // Runs of what is not protected take what moves.
    assert_eq!(world.pondrix(&["project", "set", "plant-labels", "--protect", "release"]).await.status, 0);
    let print = PLANT_LABELS.iter().find(|(path, _)| *path == "print.sh").unwrap().1;
    let torn = print.replace("time=\"0.02\"/>", "time=\"0.02\"><failure message=\"torn\"/></testcase>");
    assert_ne!(torn, print);
    for (number, text) in [print, torn.as_str(), print, torn.as_str()].into_iter().enumerate() {
        repository.write("print.sh", text).unwrap();
        let commit = repository.push(&format!("Labels, print {}", number + 1)).unwrap();
        world.end_of(&world.run_of("plant-labels", &commit).await).await;
    }
    let path = "templates/printed.kdl";
    let text = GLASSHOUSE_BASE.iter().find(|(known, _)| *known == path).unwrap().1;
    platform.write(path, &text.replace("9 beds", "10 beds")).unwrap();
    platform.push_tag("1", &platform.push("One more bed").unwrap()).unwrap();
    until("the change", async || {
        world.client.template(&name).await.is_ok_and(|now| now.text.contains("10 beds")).then_some(())
    })
    .await;
    let commit = repository.push("Labels for every bed").unwrap();
    world.end_of(&world.run_of("plant-labels", &commit).await).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.client.goto(&format!("{}/runs/plant-labels/5/verify/labels:web", world.url())).await.unwrap();
    browser.reads("uses glasshouse-base/templates/printed.kdl@1 at ").await;
    browser.reads("changed since #4").await;
    browser.reads("register> the register is open").await;
    browser.reads("10 beds are open").await;
    let flaky = world.client.flaky("plant-labels", "verify/labels:web").await.unwrap().tests;
    assert_eq!(flaky, ["labels: 3 pages were printed"]);
    browser.reads("flaky, passed and failed lately: labels: 3 pages were printed").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_what_is_built_on_what_and_what_is_in_an_image() {
    let world = World::new().await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.click("a[href='/images']").await;
    browser.reads("No image was pushed yet.").await;
    for (name, files) in
        [("glasshouse-base", GLASSHOUSE_BASE), ("visitor-desk", VISITOR_DESK), ("plant-labels", PLANT_LABELS)]
    {
        let (repository, _) = world.project(name, files).await;
        if name == "glasshouse-base" {
            let set = world.pondrix(&["project", "set", name, "--templates", "yes"]).await;
            assert_eq!(set.status, 0, "{set:?}");
        }
        let commit = repository.push("First").unwrap();
        if name == "glasshouse-base" {
            repository.push_tag("1", &commit).unwrap();
        }
        world.passes(&world.run_of(name, &commit).await).await;
    }
    // It shows what came meanwhile by itself.
    browser.reads("all 4 are current: built on what their bases are now").await;
    browser.reads("registry.fernhollow.test/garden/labels").await;
    browser.reads("on registry.fernhollow.test/base/web:1").await;
    browser.picture("console-images").await;
    browser.click("table[aria-label] a[href^='/images/registry.fernhollow.test/visitor/desk@']").await;
    browser.reads("RUN sh /srv/source/render.sh").await;
    browser.reads("built on").await;
    browser.reads("staging").await;
    browser.picture("console-image").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_waits_for_a_runner_of_another_kind_says_so_in_the_plan_and_in_the_run() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("image.recipe", "FROM scratch\nCOPY beds /beds\n").unwrap();
    repository.write("beds/lily", "lily\n").unwrap();
    let pipeline = "start commit=\"main\"\nstage \"package\" {\n    image \"labels\" {\n        \
                    platform \"linux/amd64\" \"linux/arm64\" build=\"native\"\n        \
                    push \"registry.fernhollow.test/garden/labels\" { tag \"{commit.short}\" }\n    }\n}\n";
    repository.write("pondrix.kdl", pipeline).unwrap();
    let run = world.run_of("plant-labels", &repository.push("For two kinds of machine").unwrap()).await;
    world.until(&run, |run| run.stages[0].jobs[0].state.is_over()).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.client.goto(&format!("{}/runs/plant-labels/1/package/labels:linux-arm64", world.url())).await.unwrap();
    browser.reads("no runner that runs programs for linux/arm64 is here").await;
    browser.reads(" of labels:linux-amd64").await;
    browser.client.goto(&format!("{}/plan/plant-labels", world.url())).await.unwrap();
    browser.reads("for linux/arm64").await;
    browser.reads("an index of 2 images to registry.fernhollow.test/garden/labels").await;
    browser.end().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn many_tabs_that_follow_runs_share_one_connection_and_outlive_the_server() {
    let mut world = World::new().await;
    let lines = "step \"for i in $(seq 1 6000); do echo line $i; sleep 0.1; done\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    world.until(&run, |run| run.stages[0].jobs[0].started.is_some()).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    let page = format!("{}/runs/{}/{}", world.url(), run.project, run.number);
    // Each follows a run and a log; a browser has six connections to a server.
    for _ in 0..5 {
        browser.client.goto(&page).await.unwrap();
        browser.reads("live").await;
        browser.reads("line 1").await;
        let window = browser.client.new_window(true).await.unwrap();
        browser.client.switch_to_window(window.handle).await.unwrap();
    }
    browser.client.goto(world.url()).await.unwrap();
    browser.reads("plant-labels#1").await;
    // The server goes and comes back at the same address: every tab goes on where it was.
    let url = world.server.take().unwrap().kill();
    browser.reads("not connected, trying again").await;
    let listen = url.trim_start_matches("http://").to_owned();
    world.server = Some(Server::start_allowing(&world.folder.path().join("server"), &listen, &[]));
    until("the page to see the server again", async || (!browser.text().await.contains("not connected")).then_some(()))
        .await;
    let first = browser.client.windows().await.unwrap().swap_remove(0);
    browser.client.switch_to_window(first).await.unwrap();
    world.client.stop(&run).await.unwrap();
    world.end_of(&run).await;
    until("the end of the log in the first tab", async || (!browser.text().await.contains("live")).then_some(())).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_log_says_is_text_whatever_it_looks_like() {
    let world = World::new().await;
    let lines = "step \"echo '<img src=x onerror=\\\"document.title=1\\\"><b>bold</b>'\"";
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(lines)).await;
    world.passes(&run).await;
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.client.goto(&format!("{}/runs/{}/{}", world.url(), run.project, run.number)).await.unwrap();
    browser.reads("<img src=x onerror=\"document.title=1\"><b>bold</b>").await;
    assert_ne!(browser.client.title().await.unwrap(), "1");
    assert!(browser.client.find(Locator::Css("[role=log] b, [role=log] img")).await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_who_did_what_to_whoever_administers_it_and_proves_it() {
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("visitor-desk", &one_job("step \"true\"")).await;
    world.passes(&run).await;
    let wren = Someone::new(&world, "wren", &["--role", "run", "--project", "visitor-desk", "--team", "keepers"]).await;
    for (set, value) in [("TICKET_KEY", "opens-every-gate"), ("GATE_CODE", "fern-gate-2046")] {
        assert!(world.pondrix_with(&["secret", "set", "visitor-desk", set, "--protected"], value).0);
    }
    for done in [
        &[
            "environment",
            "set",
            "staging",
            "--ref",
            "protected",
            "--approver",
            "odile",
            "--approver",
            "team:keepers",
            "--approvals",
            "2",
        ][..],
        &["environment", "freeze", "staging", "--reason", "The pond is being drained"],
        &["role", "give", "team:keepers", "approve", "--project", "visitor-desk"],
        &["user", "add", "odile", "--team", "keepers"],
        &["pool", "set", "big", "--limit", "3"],
        &["retention", "set", "--project", "visitor-desk", "--logs", "90d", "--yes"],
        &["project", "set", "visitor-desk", "--protect", "main", "--protect", "release/*"],
        &["environment", "thaw", "staging"],
        &["role", "give", "odile", "administer", "--project", "visitor-*"],
        &["token", "add", "lark", "--days", "7", "--role", "look", "--project", "visitor-desk"],
        &["token", "add", "robin", "--days", "30", "--role", "run", "--project", "visitor-desk"],
    ] {
        let said = world.pondrix(done).await;
        assert_eq!(said.status, 0, "{said:?}");
    }
    assert_eq!(wren.pondrix(&["start", "visitor-desk"]).await.status, 0);
    world.end_of(&"visitor-desk#2".parse().unwrap()).await;
    assert_eq!(wren.pondrix(&["secret", "remove", "visitor-desk", "TICKET_KEY"]).await.status, 4);
    assert_eq!(wren.pondrix(&["pool", "set", "big", "--limit", "1"]).await.status, 4);
    let stranger = Someone::with(&world, "nobody", "pdx_nothing");
    assert_eq!(stranger.ask(&Method::GET, "/api/v1/projects", serde_json::json!({})).await.status(), 401);
    let browser = Browser::new().await;
    browser.sign_in(&world).await;
    browser.click("a[href='/audit']").await;
    for words in
        ["secret set", "TICKET_KEY in visitor-desk", "The pond is being drained", "visitor-desk#2", "kept for ever"]
    {
        browser.reads(words).await;
    }
    browser.client.find(Locator::XPath("//button[normalize-space()='Verify']")).await.unwrap().click().await.unwrap();
    browser.reads("entries, none changed or missing").await;
    browser.picture("console-audit").await;
    let of = async |which: &str| {
        browser.client.find(Locator::XPath(which)).await.unwrap().click().await.unwrap();
    };
    of("//button[normalize-space()='refused']").await;
    browser.reads("pondrix audit list --result refused").await;
    until("only what was refused", async || {
        let text = browser.text().await;
        (text.contains("pool set") && !text.contains("secret set")).then_some(())
    })
    .await;
    browser.client.find(Locator::Css("input[name=who]")).await.unwrap().send_keys("wren").await.unwrap();
    of("//button[normalize-space()='Show']").await;
    browser.reads("pondrix audit list --result refused --who wren").await;
    until("only what wren was refused", async || (!browser.text().await.contains("nobody")).then_some(())).await;
    // What is asked for is in the address, and whoever may not see it is not led there.
    let address = browser.client.current_url().await.unwrap().to_string();
    assert!(address.ends_with("/audit?result=refused&who=wren"), "{address}");
    of("//button[normalize-space()='Sign out']").await;
    browser.sign_in_with(&world, &wren.token).await;
    browser.reads("visitor-desk").await;
    assert!(browser.client.find(Locator::Css("a[href='/audit']")).await.is_err());
    browser.client.goto(&format!("{}/audit", world.url())).await.unwrap();
    browser.reads("Here will be who did what").await;
    browser.end().await;
}
