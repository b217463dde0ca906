//! Who may do what.

use std::path::Path;

use pondrix_core::State;
use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::support::{PONDRIX, World, one_job, said};

/// Every method and address of the committed contract, with something put into the braces.
fn addresses() -> Vec<(Method, String)> {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let document: Value = serde_json::from_str(&std::fs::read_to_string(file).unwrap()).unwrap();
    let mut all = Vec::new();
    for (path, methods) in document["paths"].as_object().unwrap() {
        let path = path
            .replace("{project}", "desk")
            .replace("{number}", "1")
            .replace("{job}", "a~b")
            .replace("{secret}", "x")
            .replace("{name}", "x");
        for method in methods.as_object().unwrap().keys() {
            all.push((method.to_uppercase().parse().unwrap(), path.clone()));
        }
    }
    all
}

const OPEN: [(&str, &str); 2] = [("GET", "/health"), ("POST", "/api/v1/session")];

#[tokio::test(flavor = "multi_thread")]
async fn every_address_asks_for_a_token_but_health_hooks_signing_in_and_the_console() {
    let world = World::new().await;
    let http = reqwest::Client::new();
    let mut asked = 0;
    for (method, path) in addresses() {
        if OPEN.contains(&(method.as_str(), path.as_str())) {
            continue;
        }
        let body = serde_json::json!({ "name": "x", "repository": "y" });
        for token in [None, Some("wrong")] {
            let mut request = http.request(method.clone(), format!("{}{path}", world.url())).json(&body);
            request = token.into_iter().fold(request, |request, token| request.bearer_auth(token));
            let response = request.send().await.unwrap();
            let hook = path.starts_with("/hooks/");
            let expected = if hook { StatusCode::FORBIDDEN } else { StatusCode::UNAUTHORIZED };
            assert_eq!(response.status(), expected, "{method} {path} with {token:?}");
            assert_eq!(response.headers()["content-type"], "application/problem+json", "{method} {path}");
            asked += 1;
        }
    }
    for (method, path) in [
        ("POST", "hello"),
        ("POST", "take"),
        ("GET", "projects"),
        ("GET", "leases/1-x/source"),
        ("GET", "leases/1-x/source/changes"),
        ("POST", "leases/1-x/reports"),
        ("PUT", "leases/1-x/log?offset=0"),
        ("POST", "leases/1-x/beat"),
        ("POST", "leases/1-x/tag"),
        ("POST", "leases/1-x/files"),
        ("GET", "leases/1-x/files/sha256:x"),
        ("PUT", "leases/1-x/files/sha256:x"),
        ("POST", "leases/1-x/artifacts"),
        ("POST", "leases/1-x/cache"),
        ("PUT", "leases/1-x/cache"),
        ("PUT", "leases/1-x/image"),
        ("PUT", "leases/1-x/index"),
        ("POST", "leases/1-x/layers"),
        ("PUT", "leases/1-x/layers/sha256:x"),
    ] {
        let url = format!("{}/api/v1/runner/{path}", world.url());
        let request = http.request(method.parse().unwrap(), &url).json(&serde_json::json!({ "runner": "x" }));
        assert_eq!(request.try_clone().unwrap().send().await.unwrap().status(), StatusCode::UNAUTHORIZED, "{path}");
        let by_person = request.bearer_auth(&world.token).send().await.unwrap();
        assert_eq!(by_person.status(), StatusCode::FORBIDDEN, "{path}: a person is no runner");
    }
    assert!(asked > 20, "the contract lists {asked} addresses");
    assert_eq!(http.get(format!("{}/health", world.url())).send().await.unwrap().status(), StatusCode::OK);
    let console = http.get(format!("{}/runs/desk/1", world.url())).send().await.unwrap();
    assert!(console.headers()["content-type"].to_str().unwrap().starts_with("text/html"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_runners_token_is_no_persons() {
    let world = World::new().await;
    let token = std::fs::read_to_string(world.folder.path().join("server/runner.token")).unwrap();
    let answer =
        reqwest::Client::new().get(format!("{}/api/v1/runs", world.url())).bearer_auth(token).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::FORBIDDEN);
}

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
async fn an_approval_is_given_by_those_it_is_for_and_only_the_first_token_makes_others() {
    let world = World::new().await;
    let token = async |arguments: &[&str]| {
        let made = world.pondrix(&[&["token", "add", "--json"], arguments].concat()).await;
        assert_eq!(made.status, 0, "{made:?}");
        serde_json::from_str::<serde_json::Value>(&made.out).unwrap()["token"].as_str().unwrap().to_owned()
    };
    let (ines, wren) = (token(&["ines", "--group", "keepers"]).await, token(&["wren"]).await);
    let as_person = async |token: &str, arguments: &[&str]| {
        let mut command = std::process::Command::new(PONDRIX);
        command.args(arguments).env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", token);
        said(command).await
    };
    let pipeline =
        one_job("step \"true\"").replace("job \"unit\"", "approval \"Open it?\" by=\"keepers\"\n job \"unit\"");
    let (_, run) = world.run_of_pipeline("plant-labels", &pipeline).await;
    world.until(&run, |run| run.summary.state == State::Waiting).await;
    let shown = as_person(&wren, &["show", "plant-labels#1"]).await;
    assert!(shown.out.contains("Open it?  for keepers to answer"), "{shown:?}");
    for (token, name) in [(wren.as_str(), "wren"), (world.token.as_str(), "admin")] {
        let refused = as_person(token, &["approve", "plant-labels#1"]).await;
        assert_eq!(refused.status, 4, "{refused:?}");
        assert!(refused.err.contains(&format!("only keepers may answer that, and you are {name}")), "{refused:?}");
    }
    assert_eq!(as_person(&ines, &["approve", "plant-labels#1"]).await.status, 0);
    let detail = world.passes(&run).await;
    assert_eq!(detail.stages[0].approval.as_ref().unwrap().by.as_deref(), Some("ines"));

    let refused = as_person(&ines, &["token", "add", "tomas"]).await;
    assert_eq!(
        (refused.status, refused.err.contains("only the token that the server printed")),
        (4, true),
        "{refused:?}"
    );
    let twice = world.pondrix(&["token", "add", "wren"]).await;
    assert!(twice.status == 1 && twice.err.contains("a token of wren"), "{twice:?}");
    let listed = world.pondrix(&["token", "list"]).await;
    assert!(listed.out.contains("ines") && listed.out.contains("keepers"), "{listed:?}");
    assert_eq!(world.pondrix(&["token", "remove", "wren"]).await.status, 0);
    assert_eq!(as_person(&wren, &["runs"]).await.status, 4, "a token that was removed is good for nothing");
    assert_eq!(world.pondrix(&["token", "remove", "admin"]).await.status, 1);
}
