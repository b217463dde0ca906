//! Who may do what.

use pondrix_core::State;
use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::someone::Someone;
use crate::support::{World, one_job, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_browsers_session_may_change_nothing_for_another_site_and_ends_with_signing_out() {
    let world = World::new().await;
    let http = reqwest::Client::new();
    let url = |path: &str| format!("{}{path}", world.url());
    let answer =
        http.post(url("/api/v1/session")).json(&serde_json::json!({ "token": world.token })).send().await.unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let ask = |method: Method, path: &str, origin: Option<&str>| {
        let request = http.request(method, url(path)).header("cookie", &cookie).json(&serde_json::json!({}));
        origin.into_iter().fold(request, |request, origin| request.header("origin", origin)).send()
    };
    assert_eq!(ask(Method::GET, "/api/v1/whoami", None).await.unwrap().status(), StatusCode::OK);
    let foreign = ask(Method::POST, "/api/v1/projects/desk/runs", Some("https://elsewhere.test")).await.unwrap();
    assert_eq!(foreign.status(), StatusCode::FORBIDDEN);
    let own = ask(Method::POST, "/api/v1/projects/desk/runs", Some(world.url())).await.unwrap();
    assert_eq!(own.status(), StatusCode::NOT_FOUND, "allowed, but there is no such project");
    assert_eq!(
        ask(Method::DELETE, "/api/v1/session", Some(world.url())).await.unwrap().status(),
        StatusCode::NO_CONTENT
    );
    assert_eq!(ask(Method::GET, "/api/v1/whoami", None).await.unwrap().status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn lists_and_streams_show_the_projects_that_one_may_see_and_no_word_of_others() {
    let world = World::new().await;
    let (_, seen) = world.run_of_pipeline("plant-labels", &one_job("step \"true\"")).await;
    let (other, hidden) = world.run_of_pipeline("seed-bank", &one_job("step \"true\"")).await;
    world.passes(&seen).await;
    world.passes(&hidden).await;
    let wren = Someone::new(&world, "wren", &["--role", "look", "--project", "plant-*"]).await;
    let stream = wren.ask(&Method::GET, "/api/v1/runs/stream", Value::Null).await;
    assert_eq!(world.pondrix(&["role", "give", "team:seeds", "run", "--project", "seed-bank"]).await.status, 0);
    assert_eq!(world.pondrix(&["environment", "set", "staging", "--project", "seed-bank"]).await.status, 0);
    for path in [
        "/api/v1/roles",
        "/api/v1/environments",
        "/api/v1/projects",
        "/api/v1/runs",
        "/api/v1/runs?state=passed&limit=200",
        "/api/v1/images",
        "/api/v1/images/chain",
        "/api/v1/retention",
    ] {
        let text = wren.ask(&Method::GET, path, Value::Null).await.text().await.unwrap();
        assert!(!text.contains("seed-bank"), "{path}: {text}");
        let names_own = ["runs", "projects"].iter().any(|word| path.contains(word));
        assert_eq!(text.contains("plant-labels"), names_own, "{path}: {text}");
        assert!(!text.contains("/hooks/"), "the secret of a hook is for maintainers: {text}");
    }
    for path in [
        "/api/v1/runs?project=seed-bank",
        "/api/v1/images?project=seed-bank",
        "/api/v1/projects/seed-bank/runs/1",
        "/api/v1/projects/seed-bank/runs/1/stream",
        "/api/v1/projects/seed-bank/runs/1/jobs/verify~unit/log/stream",
        "/api/v1/templates?name=t&project=seed-bank&version=main",
    ] {
        let hidden = wren.ask(&Method::GET, path, Value::Null).await;
        let unknown = wren.ask(&Method::GET, &path.replace("seed-bank", "no-such"), Value::Null).await;
        assert_eq!((hidden.status(), unknown.status()), (StatusCode::NOT_FOUND, StatusCode::NOT_FOUND), "{path}");
        // Nothing tells a project that one may not see from one that is not there.
        let said = async |answer: reqwest::Response| answer.json::<Value>().await.unwrap()["detail"].clone();
        let (hidden, unknown) = (said(hidden).await.to_string(), said(unknown).await.to_string());
        assert_eq!(hidden.replace("seed-bank", "no-such"), unknown, "{path}");
    }
    // Several streams in one connection are asked for one by one.
    let both = "/api/v1/stream?a=run/plant-labels/1@&b=run/seed-bank/1@&c=log/seed-bank/1/verify~unit@&d=runs@";
    let mut both = wren.ask(&Method::GET, both, Value::Null).await;
    let mut text = String::new();
    while !(text.contains("began") && text.matches("refused").count() >= 2 && text.contains("plant-labels")) {
        text.push_str(std::str::from_utf8(&both.chunk().await.unwrap().unwrap()).unwrap());
    }
    let named: Vec<_> = text.lines().filter(|line| line.contains("seed-bank")).collect();
    assert!(named.iter().all(|line| line.contains("that you may see")), "{text}");
    // A change of the other project's is not told; one of theirs is.
    world.run_of("seed-bank", &other.push("Another").unwrap()).await;
    assert_eq!(world.pondrix(&["start", "plant-labels"]).await.status, 0);
    let mut stream = stream;
    let mut told = String::new();
    while !told.contains("plant-labels") {
        told.push_str(std::str::from_utf8(&stream.chunk().await.unwrap().unwrap()).unwrap());
    }
    assert!(!told.contains("seed-bank"), "{told}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_one_follows_ends_when_the_right_to_it_ends() {
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"sleep 1000\"")).await;
    world.until(&run, |run| run.summary.state == State::Running).await;
    let wren = Someone::new(&world, "wren", &["--team", "growers"]).await;
    let run_stream = "/api/v1/projects/plant-labels/runs/1/stream";
    assert_eq!(wren.ask(&Method::GET, run_stream, Value::Null).await.status(), StatusCode::NOT_FOUND);
    let role = ["role", "give", "team:growers", "look", "--project", "plant-labels"];
    assert_eq!(world.pondrix(&role).await.status, 0);
    let log_stream = "/api/v1/projects/plant-labels/runs/1/jobs/verify~unit/log/stream";
    let shared = "/api/v1/stream?a=run/plant-labels/1@&b=runs@";
    for (path, ends) in [
        (run_stream, &["role", "take", "team:growers", "look", "--project", "plant-labels"][..]),
        (log_stream, &["user", "set", "wren", "--no-team"]),
        (shared, &["role", "take", "team:growers", "look", "--project", "plant-labels"]),
    ] {
        assert_eq!(world.pondrix(&role).await.status, 0);
        assert_eq!(world.pondrix(&["user", "set", "wren", "--team", "growers"]).await.status, 0);
        let mut stream = wren.ask(&Method::GET, path, Value::Null).await;
        assert_eq!(stream.status(), StatusCode::OK, "{path}");
        if path != log_stream {
            assert!(stream.chunk().await.unwrap().is_some(), "{path}");
        }
        assert_eq!(world.pondrix(ends).await.status, 0, "{ends:?}");
        // The run goes on for long: only the lost right ends this.
        while stream.chunk().await.unwrap().is_some() {}
        let again = wren.ask(&Method::GET, run_stream, Value::Null).await;
        assert_eq!(again.status(), StatusCode::NOT_FOUND, "{path}");
    }
    // So does what a token shows that is removed.
    assert_eq!(world.pondrix(&role).await.status, 0);
    assert_eq!(world.pondrix(&["user", "set", "wren", "--team", "growers"]).await.status, 0);
    let spare = wren.token(&["spare"]).await;
    let mut stream = spare.ask(&Method::GET, run_stream, Value::Null).await;
    assert!(stream.chunk().await.unwrap().is_some());
    assert_eq!(wren.pondrix(&["token", "remove", "spare"]).await.status, 0);
    while stream.chunk().await.unwrap().is_some() {}
    assert_eq!(spare.ask(&Method::GET, run_stream, Value::Null).await.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(wren.ask(&Method::GET, run_stream, Value::Null).await.status(), StatusCode::OK);
    world.pondrix(&["stop", "plant-labels#1"]).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_approval_is_given_by_those_it_is_for() {
    let world = World::new().await;
    let pipeline =
        one_job("step \"true\"").replace("job \"unit\"", "approval \"Open it?\" by=\"keepers\"\n job \"unit\"");
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    world.until(&run, |run| run.summary.state == State::Waiting).await;
    let odile = Someone::new(&world, "odile", &["--team", "keepers", "--role", "approve"]).await;
    let wren = Someone::new(&world, "wren", &["--role", "run"]).await;
    let tomas = Someone::new(&world, "tomas", &["--team", "keepers", "--role", "look"]).await;
    let shown = wren.pondrix(&["show", "plant-labels#1"]).await;
    assert!(shown.out.contains("Open it?  for keepers to answer"), "{shown:?}");
    let admin = Someone::with(&world, "admin", &world.token);
    for someone in [&wren, &admin] {
        let refused = someone.pondrix(&["approve", "plant-labels#1"]).await;
        assert_eq!(refused.status, 4, "{refused:?}");
        let words = format!("only keepers may answer that, and you are {}", someone.name);
        assert!(refused.err.contains(&words), "{refused:?}");
    }
    let refused = tomas.pondrix(&["approve", "plant-labels#1"]).await;
    assert_eq!(refused.status, 4, "a keeper who may only look: {refused:?}");
    assert!(refused.err.contains("the role `approve` in plant-labels, which tomas has not"), "{refused:?}");
    assert_eq!(odile.pondrix(&["approve", "plant-labels#1"]).await.status, 0);
    let detail = world.passes(&run).await;
    assert_eq!(detail.stages[0].approval.as_ref().unwrap().by.as_deref(), Some("odile"));
}

#[tokio::test(flavor = "multi_thread")]
async fn roles_are_given_by_whoever_administers_and_the_last_who_administers_everything_stays() {
    let world = World::new().await;
    world.project("plant-labels", &[]).await;
    let ines = Someone::new(&world, "ines", &["--role", "administer", "--project", "plant-*"]).await;
    let wren = Someone::new(&world, "wren", &[]).await;
    assert!(ines.pondrix(&["role", "give", "wren", "maintain", "--project", "plant-labels"]).await.status == 0);
    assert!(wren.pondrix(&["project", "list"]).await.out.contains("plant-labels"));
    for (someone, arguments) in [
        (&ines, &["role", "give", "wren", "look", "--project", "*"][..]),
        (&ines, &["role", "give", "wren", "look", "--project", "visitor-desk"]),
        (&ines, &["user", "add", "tomas"]),
        (&ines, &["user", "remove", "wren", "--yes"]),
        (&ines, &["user", "set", "wren", "--team", "growers"]),
        (&wren, &["role", "give", "wren", "administer", "--project", "plant-labels"]),
        (&wren, &["role", "take", "ines", "administer", "--project", "plant-*"]),
        (&wren, &["project", "remove", "plant-labels", "--yes"]),
        (&wren, &["project", "add", "plant-beds", "/nowhere"]),
        (&wren, &["token", "add", "mine", "--owner", "ines"]),
    ] {
        let refused = someone.pondrix(arguments).await;
        assert_eq!(refused.status, 4, "{arguments:?}: {refused:?}");
        assert!(refused.err.contains(someone.name), "{arguments:?} tells who: {refused:?}");
    }
    // A team may be let add projects of its own beginning.
    assert!(ines.pondrix(&["role", "give", "wren", "add", "--project", "plant-beds*"]).await.status == 0);
    let elsewhere = wren.pondrix(&["project", "add", "seed-bank", "/nowhere"]).await;
    assert!(elsewhere.status == 4 && elsewhere.err.contains("the role `add` in seed-bank"), "{elsewhere:?}");
    // Git reaches a repository as the server, which can read more of its machine and network than they may.
    let bare = world.folder.path().display().to_string();
    for (repository, words) in [
        (bare.as_str(), "it is a path of the server's machine"),
        ("file:///etc", "it is a path of the server's machine"),
        ("https://127.0.0.1:1/beds.git", "127.0.0.1 is 127.0.0.1, which is not of the public network"),
        ("git@localhost:beds.git", "which is not of the public network"),
        ("https://169.254.169.254/latest", "which is not of the public network"),
        ("http://192.168.1.1/beds.git", "it is reached neither by https nor by ssh"),
    ] {
        let refused = wren.pondrix(&["project", "add", "plant-beds-north", repository]).await;
        assert!(refused.status == 4 && refused.err.contains(words), "{repository}: {refused:?}");
    }
    // What nobody could undo is not done.
    for arguments in [
        &["user", "remove", "admin", "--yes"][..],
        &["role", "take", "admin", "administer", "--project", "*"],
        &["token", "remove", "first"],
    ] {
        let admin = Someone::with(&world, "admin", &world.token);
        let arguments: Vec<_> = arguments.iter().map(|word| if *word == "first" { "1" } else { word }).collect();
        let refused = admin.pondrix(&arguments).await;
        assert_eq!(refused.status, 1, "{arguments:?}: {refused:?}");
        assert!(refused.err.contains("nobody could administer the server then"), "{arguments:?}: {refused:?}");
    }
    let odile = Someone::new(&world, "odile", &["--role", "administer"]).await;
    assert_eq!(odile.pondrix(&["user", "remove", "admin", "--yes"]).await.status, 0);
    assert_eq!(world.pondrix(&["whoami"]).await.status, 4, "whose person is gone, their token is good for nothing");
    // A project of the same name is another project: whoever had a role in the old one has none in it.
    assert_eq!(odile.pondrix(&["project", "remove", "plant-labels", "--yes"]).await.status, 0);
    let listed = odile.pondrix(&["role", "list"]).await;
    let of_wren: Vec<_> = listed.out.lines().filter(|line| line.contains("wren")).collect();
    assert!(of_wren.len() == 1 && of_wren[0].contains("plant-beds*"), "{listed:?}");
    let unknown = odile.pondrix(&["role", "give", "tomas", "run", "--project", "*"]).await;
    assert!(unknown.err.contains("pondrix user add tomas"), "{unknown:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_limited_ends_and_is_rotated_without_a_gap() {
    let world = World::new().await;
    world.project("plant-labels", &[]).await;
    world.project("seed-bank", &[]).await;
    let wren = Someone::new(&world, "wren", &["--role", "maintain"]).await;
    assert!(wren.token.starts_with("pdx_"), "leak scanners know it by its beginning");
    // A browser that is signed in with one that ends is signed out when it does.
    let day = wren.token(&["day", "--days", "1"]).await;
    let answer = day.ask(&Method::POST, "/api/v1/session", serde_json::json!({ "token": day.token })).await;
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    let age = cookie.split("Max-Age=").nth(1).and_then(|rest| rest.split(';').next()).unwrap().parse::<u32>().unwrap();
    assert!((3600..=86_400).contains(&age), "{cookie}");
    let arguments = ["nightly", "--role", "run", "--project", "plant-labels", "--days", "30"];
    let nightly = wren.token(&arguments).await;
    let listed = nightly.pondrix(&["project", "list"]).await;
    assert!(listed.out.contains("plant-labels") && !listed.out.contains("seed-bank"), "{listed:?}");
    let secret = async |someone: &Someone<'_>| someone.pondrix(&["secret", "remove", "plant-labels", "KEY"]).await;
    assert_eq!(secret(&wren).await.status, 1, "there is none");
    let refused = secret(&nightly).await;
    assert_eq!(refused.status, 4, "{refused:?}");
    assert!(refused.err.contains("wren has it, but this token is limited to `run` in plant-labels"), "{refused:?}");
    // It makes none that allow more, and removes none; it may only take its own place.
    for arguments in [&["token", "add", "wider"][..], &["token", "remove", "first"], &["token", "rotate", "first"]] {
        let refused = nightly.pondrix(arguments).await;
        assert!(refused.status == 4 && refused.err.contains("a token that is limited"), "{arguments:?}: {refused:?}");
    }
    let made = nightly.pondrix(&["token", "rotate", "nightly", "--json"]).await;
    assert_eq!(made.status, 0, "{made:?}");
    let made: Value = serde_json::from_str(&made.out).unwrap();
    assert_eq!(made["made"]["limit"], serde_json::json!({ "role": "run", "projects": "plant-labels" }));
    let heir = Someone::with(&world, "wren", made["token"].as_str().unwrap());
    for token in [&nightly, &heir] {
        assert_eq!(token.pondrix(&["whoami"]).await.status, 0, "both are good for an hour");
    }
    let tokens = world.client.tokens().await.unwrap().tokens;
    let of_label: Vec<_> = tokens.iter().filter(|token| token.label == "nightly").collect();
    let left = |at: usize| of_label[at].ends.unwrap().since(of_label[1].created) / 60_000;
    assert_eq!((of_label.len(), left(0), left(1)), (2, 60, 30 * 24 * 60), "minutes that each is good for");
    assert!(of_label.iter().all(|token| token.used.is_some()), "when each was used last is known");
    // When its time is over it is good for nothing: the records say so, and nobody else.
    let records = rusqlite::Connection::open(world.folder.path().join("server/records.db")).unwrap();
    records.execute("UPDATE tokens SET expires = 1 WHERE id = ?1", [of_label[0].id]).unwrap();
    // The server believes for some seconds what the records said before.
    until("the old one ends", async || (nightly.pondrix(&["whoami"]).await.status == 4).then_some(())).await;
    assert_eq!(heir.pondrix(&["whoami"]).await.status, 0);
    // One that was cut when it was copied is told so.
    let cut = Someone::with(&world, "wren", &heir.token[..40]);
    assert!(cut.pondrix(&["whoami"]).await.err.contains("this token is cut or mistyped"));
    // Records never hold a token, only what tells it again.
    let bytes = std::fs::read(world.folder.path().join("server/records.db")).unwrap();
    let log = std::fs::read(world.folder.path().join("server/records.db-wal")).unwrap_or_default();
    for token in [&wren.token, &heir.token, &world.token] {
        let is_in = |bytes: &[u8]| bytes.windows(token.len()).any(|part| part == token.as_bytes());
        assert!(!is_in(&bytes) && !is_in(&log));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_found_a_token_cannot_make_it_last_after_it_was_rotated() {
    let world = World::new().await;
    let odile = Someone::new(&world, "odile", &["--role", "administer"]).await;
    let found = odile.token(&["nightly"]).await;
    let limited = odile.token(&["limited", "--role", "look"]).await;
    for label in ["nightly", "limited"] {
        assert_eq!(odile.pondrix(&["token", "rotate", label]).await.status, 0, "{label}");
    }
    let tokens = world.client.tokens().await.unwrap().tokens;
    let old =
        |label: &str| tokens.iter().find(|token| token.label == label && token.heir.is_some()).unwrap().id.to_string();
    let (nightly, limited_number) = (old("nightly"), old("limited"));
    let refused = async |someone: &Someone<'_>, arguments: &[&str]| {
        let refused = someone.pondrix(arguments).await;
        let told = refused.err.contains("another token was put in the place of this one");
        assert!(refused.status == 4 && told, "{arguments:?}: {refused:?}");
    };
    refused(&found, &["token", "rotate", &nightly]).await;
    refused(&found, &["token", "add", "mine"]).await;
    refused(&found, &["user", "add", "mallow"]).await;
    refused(&limited, &["token", "rotate", &limited_number]).await;
    // Nor a browser that is signed in with it, which ends with it too.
    let answer = found.ask(&Method::POST, "/api/v1/session", serde_json::json!({ "token": found.token })).await;
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    let request = reqwest::Client::new().post(format!("{}/api/v1/tokens", world.url())).header("origin", world.url());
    let request = request.header("cookie", cookie.split(';').next().unwrap());
    let answer = request.json(&serde_json::json!({ "label": "mine" })).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::FORBIDDEN);
    // Nobody else puts a second one in its place either; a label means the one that is there now.
    let again = odile.pondrix(&["token", "rotate", &nightly]).await;
    assert!(again.status == 1 && again.err.contains("another token was put in the place of"), "{again:?}");
    assert_eq!(odile.pondrix(&["token", "remove", &nightly]).await.status, 0);
    assert_eq!(found.pondrix(&["whoami"]).await.status, 4);
    assert_eq!(odile.pondrix(&["token", "rotate", "nightly"]).await.status, 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_may_do_no_more_than_the_token_it_was_signed_in_with_and_is_signed_out_with_it() {
    let world = World::new().await;
    world.project("plant-labels", &[]).await;
    let wren = Someone::new(&world, "wren", &["--role", "maintain"]).await;
    let phone = wren.token(&["phone", "--role", "look"]).await;
    let http = reqwest::Client::new();
    let url = |path: &str| format!("{}{path}", world.url());
    let body = serde_json::json!({ "token": phone.token });
    let answer = http.post(url("/api/v1/session")).json(&body).send().await.unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let ask = |method: Method, path: &str| {
        let request = http.request(method, url(path)).header("cookie", &cookie).header("origin", world.url());
        request.json(&serde_json::json!({})).send()
    };
    assert_eq!(ask(Method::GET, "/api/v1/runs").await.unwrap().status(), StatusCode::OK);
    let started = ask(Method::POST, "/api/v1/projects/plant-labels/runs").await.unwrap();
    assert_eq!(started.status(), StatusCode::FORBIDDEN);
    let removed = wren.pondrix(&["token", "remove", "phone"]).await;
    assert_eq!(removed.status, 0, "{removed:?}");
    assert_eq!(ask(Method::GET, "/api/v1/runs").await.unwrap().status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn no_answer_can_act_as_another_kind_be_shown_in_a_frame_or_tell_where_one_came_from() {
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo '<script>alert(1)</script>'\"")).await;
    world.passes(&run).await;
    let admin = Someone::with(&world, "admin", &world.token);
    for path in [
        "/api/v1/projects/plant-labels/runs/1/jobs/verify~unit/log",
        "/api/v1/runs",
        "/api/v1/no-such-address",
        "/api/v1/projects/no-such/runs/1",
        "/health",
        "/",
        "/runs/plant-labels/1",
    ] {
        let answer = admin.ask(&Method::GET, path, Value::Null).await;
        let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
        assert_eq!(header("x-content-type-options"), "nosniff", "{path}");
        assert_eq!(header("x-frame-options"), "DENY", "{path}");
        assert!(header("content-security-policy").contains("frame-ancestors 'none'"), "{path}");
        assert!(!header("content-security-policy").contains("script-src"), "{path}: {:?}", answer.headers());
        assert!(["no-referrer", "same-origin"].contains(&header("referrer-policy")), "{path}");
    }
    let log = admin.ask(&Method::GET, "/api/v1/projects/plant-labels/runs/1/jobs/verify~unit/log", Value::Null).await;
    assert_eq!(log.headers()["content-type"], "text/plain; charset=utf-8");
    assert!(log.headers()["content-security-policy"].to_str().unwrap().starts_with("default-src 'none'"));
}

#[tokio::test(flavor = "multi_thread")]
async fn other_users_of_the_machine_read_neither_records_nor_logs_nor_keys() {
    use std::os::unix::fs::PermissionsExt;
    let world = World::new().await;
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job("step \"echo one\"")).await;
    world.passes(&run).await;
    let data = world.folder.path().join("server");
    let mode = |name: &str| std::fs::metadata(data.join(name)).unwrap().permissions().mode() & 0o777;
    for name in ["records.db", "records.db-wal", "records.db-shm", "secrets.key", "own-1.token", "address"] {
        assert_eq!(mode(name), 0o600, "{name}");
    }
    for name in ["", "repositories", "logs", "files", "tries"] {
        assert_eq!(mode(name), 0o700, "{name}");
    }
}
