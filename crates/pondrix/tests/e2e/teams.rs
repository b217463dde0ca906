//! What a team sets itself that maintains projects and may add to them: environments, runners, who signs in at registries.

use pondrix_standin::garden::REGISTRY;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::environments::{app, rolling_out};
use crate::someone::Someone;
use crate::support::{Server, World};

/// Somebody who maintains `plant-*`, and may add to them.
async fn keeper(world: &World) -> Someone<'_> {
    let keeper = Someone::new(world, "keeper", &["--role", "maintain", "--project", "plant-*"]).await;
    assert_eq!(world.pondrix(&["role", "give", "keeper", "add", "--project", "plant-*"]).await.status, 0);
    keeper
}

/// What comes of an attempt: refused with words of who may, or not.
async fn is_let(someone: &Someone<'_>, arguments: &[&str]) -> bool {
    let said = someone.pondrix(arguments).await;
    if said.status == 4 {
        assert!(said.err.contains("this asks for the role `"), "{arguments:?} {said:?}");
        return false;
    }
    assert_eq!(said.status, 0, "{arguments:?} {said:?}");
    true
}

async fn asked(someone: &Someone<'_>, method: Method, path: &str, body: Value) -> StatusCode {
    someone.ask(&method, path, body).await.status()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_team_sets_environments_for_its_own_projects_under_its_own_names_and_leads_the_server_nowhere_inside() {
    let mut world = World::new().await;
    let file = world.kubeconfig.display().to_string();
    let own = ["environment", "set", "plant-beds", "--kubeconfig", &file, "--namespace", "staging"];
    let with = |more: &[&'static str]| [&own[..], more].concat();
    let ours = with(&["--project", "plant-*"]);
    {
        let keeper = keeper(&world).await;
        let closed = keeper.pondrix(&ours).await;
        assert!(closed.status == 4 && closed.err.contains("which is not of the public network"), "{closed:?}");
    }
    let address = world.url().trim_start_matches("http://").to_owned();
    world.server.take().unwrap().end();
    let data = world.folder.path().join("server");
    world.server = Some(Server::start_allowing(&data, &address, &["--reach", "127.0.0.1"]));
    let token = world.pondrix(&["token", "add", "second", "--owner", "keeper", "--json"]).await;
    let token: Value = serde_json::from_str(&token.out).unwrap();
    let keeper = Someone::with(&world, "keeper", token["token"].as_str().unwrap());
    // One of both is not enough; and it is for what is theirs, under such a name.
    for role in ["add", "maintain"] {
        let name: &'static str = if role == "add" { "adder" } else { "maintainer" };
        let half = Someone::new(&world, name, &["--role", role, "--project", "plant-*"]).await;
        assert!(!is_let(&half, &ours).await, "{role}");
    }
    for more in [&[][..], &["--project", "*"], &["--project", "plant-*", "--project", "gate"]] {
        assert!(!is_let(&keeper, &with(more)).await, "{more:?}");
    }
    for name in ["beds", "staging"] {
        assert!(!is_let(&keeper, &["environment", "set", name, "--project", "plant-*"]).await, "{name}");
    }
    assert!(is_let(&keeper, &ours).await);
    // Its secrets are theirs, too, and those of others are not.
    let secret = |scope: &str| json!({ "scope": scope, "name": "KEY", "value": "opens-every-gate" });
    for (scope, expected) in [
        ("environment:plant-beds", StatusCode::OK),
        ("environment:staging", StatusCode::FORBIDDEN),
        ("*", StatusCode::FORBIDDEN),
    ] {
        assert_eq!(asked(&keeper, Method::PUT, "/api/v1/secrets", secret(scope)).await, expected, "{scope}");
    }
    let admin = Someone::with(&world, "admin", &world.token);
    assert_eq!(asked(&admin, Method::PUT, "/api/v1/secrets", secret("environment:staging")).await, StatusCode::OK);
    let listed: Value = keeper.ask(&Method::GET, "/api/v1/secrets", Value::Null).await.json().await.unwrap();
    assert_eq!(listed["secrets"].as_array().unwrap().len(), 1, "{listed}");
    // What is rolled out goes there.
    let repository = app(&world, &rolling_out("").replace("staging", "plant-beds")).await;
    world.passes(&world.run_of("plant-labels", &repository.push("Planted").unwrap()).await).await;
    // A freeze is lifted by whoever set it, or by an administrator.
    assert!(is_let(&keeper, &["environment", "freeze", "plant-beds", "--reason", "it rains"]).await);
    assert!(is_let(&keeper, &["environment", "thaw", "plant-beds"]).await);
    assert!(!is_let(&keeper, &["environment", "freeze", "staging", "--reason", "it rains"]).await);
    assert_eq!(world.pondrix(&["environment", "freeze", "plant-beds", "--reason", "an audit"]).await.status, 0);
    let thawed = keeper.pondrix(&["environment", "thaw", "plant-beds"]).await;
    assert!(thawed.status == 4 && thawed.err.contains("admin froze it: an audit"), "{thawed:?}");
    let removed = keeper.pondrix(&["environment", "remove", "plant-beds", "--yes"]).await;
    assert!(removed.status == 4 && removed.err.contains("admin froze it"), "nor made anew without it: {removed:?}");
    // What an administrator sets is theirs from then on.
    assert_eq!(world.pondrix(&["environment", "set", "plant-beds", "--ref", "any"]).await.status, 0);
    for change in [
        &["environment", "set", "plant-beds", "--ref", "protected"][..],
        &["environment", "remove", "plant-beds", "--yes"],
    ] {
        assert!(!is_let(&keeper, change).await, "{change:?}");
    }
    let again = ["environment", "set", "plant-pots", "--kubeconfig", &file, "--project", "plant-labels"];
    assert!(is_let(&keeper, &again).await);
    assert!(is_let(&keeper, &["environment", "remove", "plant-pots", "--yes"]).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_team_adds_runners_for_its_own_projects_and_changes_no_others() {
    let world = World::new().await;
    let keeper = keeper(&world).await;
    let into = world.folder.path().join("plant-1.token").display().to_string();
    let add = |name: &'static str, more: &[&'static str]| {
        [&["runner", "add", name, "--into", into.as_str()][..], more].concat()
    };
    for (name, more) in [
        ("plant-1", &[][..]),
        ("plant-1", &["--project", "*"]),
        ("plant-1", &["--project", "plant-*", "--project", "gate"]),
        ("pond-1", &["--project", "plant-*"]),
    ] {
        assert!(!is_let(&keeper, &add(name, more)).await, "{name} {more:?}");
    }
    assert!(is_let(&keeper, &add("plant-1", &["--project", "plant-*"])).await);
    let more = world.folder.path().join("more.token").display().to_string();
    for change in [
        &["runner", "pause", "plant-1"][..],
        &["runner", "resume", "plant-1"],
        &["runner", "rotate", "plant-1", "--into", &more],
        &["runner", "remove", "plant-1"],
    ] {
        let of_others: Vec<_> = change.iter().map(|word| if *word == "plant-1" { "own-1" } else { word }).collect();
        assert!(!is_let(&keeper, &of_others).await, "{of_others:?}");
        assert!(is_let(&keeper, change).await, "{change:?}");
    }
    // One that an administrator added stays theirs, whatever it is called and is for.
    world.runner_token("plant-2", &["--project", "plant-*"]);
    assert!(!is_let(&keeper, &["runner", "remove", "plant-2"]).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_team_says_who_signs_in_for_its_own_projects_at_a_registry_that_is_known_and_nothing_else_of_it() {
    let world = World::new().await;
    let keeper = keeper(&world).await;
    let set = async |more: Value| {
        let mut change = json!({ "host": REGISTRY, "user": "plants", "password": "dew-on-the-lily" });
        change.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        asked(&keeper, Method::PUT, "/api/v1/registries", change).await
    };
    for more in [
        json!({}),
        json!({ "projects": ["*"] }),
        json!({ "projects": ["plant-*", "gate"] }),
        json!({ "projects": ["plant-*"], "address": "http://127.0.0.1:9" }),
        json!({ "projects": ["plant-*"], "signs_in_at": "http://127.0.0.1:9/token" }),
        json!({ "projects": ["plant-*"], "bare_names": "base" }),
        json!({ "projects": ["plant-*"], "audience": "vault", "password": null }),
        json!({ "projects": ["plant-*"], "host": "registry.lake.test" }),
        json!({ "projects": ["plant-*"], "user": null, "password": null }),
    ] {
        assert_eq!(set(more.clone()).await, StatusCode::FORBIDDEN, "{more}");
    }
    assert_eq!(set(json!({ "projects": ["plant-*"], "repositories": ["plants/*"] })).await, StatusCode::OK);
    assert_eq!(set(json!({ "password": "another-dew" })).await, StatusCode::OK, "theirs already");
    // Whom an administrator named they neither change nor forget.
    let admin = Someone::with(&world, "admin", &world.token);
    let of_all = json!({ "host": REGISTRY, "user": "pond", "password": "water-under-it", "projects": ["plant-*"] });
    assert_eq!(asked(&admin, Method::PUT, "/api/v1/registries", of_all.clone()).await, StatusCode::OK);
    assert_eq!(set(of_all).await, StatusCode::FORBIDDEN);
    let at = format!("/api/v1/registries/{REGISTRY}");
    for (path, expected) in [
        (format!("{at}?user=pond"), StatusCode::FORBIDDEN),
        (at.clone(), StatusCode::FORBIDDEN),
        (format!("{at}?user=plants"), StatusCode::NO_CONTENT),
        (format!("{at}?user=plants"), StatusCode::FORBIDDEN),
    ] {
        assert_eq!(asked(&keeper, Method::DELETE, &path, json!({})).await, expected, "{path}");
    }
}
