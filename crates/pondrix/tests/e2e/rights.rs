//! Who may ask for what: every address against the table of rights.

use std::path::Path;

use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::someone::Someone;
use crate::support::World;

/// A method and an address of the committed contract, with something put into the braces, and what it asks for.
struct Address {
    method: Method,
    path: String,
    asks: String,
}

/// All of them.
fn addresses() -> Vec<Address> {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let document: Value = serde_json::from_str(&std::fs::read_to_string(file).unwrap()).unwrap();
    let mut all = Vec::new();
    for (path, methods) in document["paths"].as_object().unwrap() {
        let path = path
            .replace("{project}", "desk")
            .replace("{number}", "1")
            .replace("{job}", "a~b")
            .replace("{secret}", "x")
            .replace("{host}", "x.test")
            .replace("{id}", "999999")
            .replace("{name}", "x");
        assert!(!path.contains('{'), "{path}");
        for (method, operation) in methods.as_object().unwrap() {
            let asks = operation["x-asks"].as_str().unwrap_or_default().to_owned();
            all.push(Address { method: method.to_uppercase().parse().unwrap(), path: path.clone(), asks });
        }
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn every_address_asks_for_a_token_but_health_hooks_signing_in_and_the_console() {
    let world = World::new().await;
    let http = reqwest::Client::new();
    let mut asked = 0;
    for Address { method, path, asks } in addresses() {
        if asks == "nothing" {
            let open = [
                ("GET", "/health"),
                ("GET", "/.well-known/openid-configuration"),
                ("GET", "/.well-known/jwks.json"),
                ("GET", "/sign-in/openid"),
                ("GET", "/sign-in/openid/callback"),
                ("GET", "/api/v1/session/ways"),
                ("POST", "/api/v1/session"),
            ];
            assert!(open.contains(&(method.as_str(), path.as_str())), "{method} {path}");
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
        ("POST", "leases/1-x/account"),
        ("POST", "leases/1-x/identity"),
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
    let token = std::fs::read_to_string(world.folder.path().join("server/own-1.token")).unwrap();
    let http = reqwest::Client::new();
    for Address { method, path, .. } in addresses().into_iter().filter(|one| one.asks != "nothing") {
        let request = http.request(method.clone(), format!("{}{path}", world.url())).json(&serde_json::json!({}));
        let answer = request.bearer_auth(&token).send().await.unwrap();
        assert_eq!(answer.status(), StatusCode::FORBIDDEN, "{method} {path}");
    }
}

/// Which roles are enough for what an address asks for, written down once more: `(role, what it is enough for)`.
const ENOUGH: [(&str, &[&str]); 7] = [
    ("look", &["look"]),
    ("approve", &["look", "approve"]),
    ("secrets", &["look", "secrets"]),
    ("run", &["look", "approve", "run"]),
    ("add", &["look", "add"]),
    ("maintain", &["look", "approve", "run", "secrets", "maintain"]),
    ("administer", &["look", "approve", "run", "secrets", "maintain", "add", "administer"]),
];

#[tokio::test(flavor = "multi_thread")]
async fn every_address_is_answered_to_whom_the_table_of_rights_says_and_to_nobody_else() {
    let world = World::new().await;
    world.project("desk", &[]).await;
    world.project("glasshouse-base", &[]).await;
    // What is asked for changes nothing: there is no run 1 and no person x, and every body lacks something.
    let nothing = || serde_json::json!({});
    let mut asked = 0;
    for (role, enough) in ENOUGH {
        let (all, here, elsewhere) = (format!("{role}-all"), format!("{role}-here"), format!("{role}-elsewhere"));
        let [all, here, elsewhere] = [all, here, elsewhere].map(|name| &*name.leak());
        let all = Someone::new(&world, all, &["--role", role]).await;
        let here = Someone::new(&world, here, &["--role", role, "--project", "desk"]).await;
        let elsewhere = Someone::new(&world, elsewhere, &["--role", role, "--project", "glasshouse-*"]).await;
        // Whoever administers all has a token that allows no more than this role.
        let admin = Someone::with(&world, "admin", &world.token);
        let limited = admin.token(&[&format!("for-{role}"), "--role", role, "--project", "desk"]).await;
        for address in addresses() {
            let Address { method, path, asks } = &address;
            // Its project is removed when whoever may asks for it.
            if *method == Method::DELETE && path == "/api/v1/projects/desk" {
                continue;
            }
            // What has no end is looked at elsewhere; so is what asks for no role.
            if ["nothing", "hook-secret", "signed-in"].contains(&asks.as_str()) || path.ends_with("stream") {
                continue;
            }
            let of_project = path.starts_with("/api/v1/projects/desk");
            // What is for somebody's own projects alone, whoever maintains those sets who may add to them.
            let is_own = asks == "own";
            let need = match asks.as_str() {
                "own" if path.starts_with("/api/v1/secrets") => "secrets",
                "own" => "administer",
                asks => asks,
            };
            let is_enough = enough.contains(&need);
            for (someone, may) in [
                (&all, is_enough),
                (&here, is_enough && of_project),
                (&limited, is_enough && of_project),
                (&elsewhere, false),
            ] {
                let answer = someone.ask(method, path, nothing()).await;
                let status = answer.status();
                let problem: Value = answer.json().await.unwrap_or_default();
                let detail = problem["detail"].as_str().unwrap_or_default().to_owned();
                let told = format!("{method} {path} asked for by {}: {status} {detail}", someone.name);
                let is_hidden = status == StatusCode::NOT_FOUND && detail.contains("project `desk` that you may see");
                if is_own && role == "administer" && !may {
                    // They have both there: only what they ask for tells, and here that is nothing.
                    let is_none = status == StatusCode::OK && problem["secrets"] == serde_json::json!([]);
                    let is_known = [StatusCode::FORBIDDEN, StatusCode::UNPROCESSABLE_ENTITY].contains(&status);
                    assert!(is_none || is_known || detail.contains("there is no"), "{told}");
                } else if may {
                    assert!(
                        ![StatusCode::FORBIDDEN, StatusCode::UNAUTHORIZED].contains(&status) && !is_hidden,
                        "{told}"
                    );
                } else if of_project && someone.name == elsewhere.name {
                    assert!(is_hidden, "{told}");
                } else {
                    assert_eq!(status, StatusCode::FORBIDDEN, "{told}");
                    assert!(detail.contains("this asks for the role `"), "{told}");
                }
                asked += 1;
            }
        }
    }
    assert!(asked > 7 * 4 * 25, "{asked} questions");
}
