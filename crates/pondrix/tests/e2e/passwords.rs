//! Signing in with a name and a password, and guessing them.

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::images::found_in;
use crate::someone::Someone;
use crate::support::{PONDRIX, World, said};

const PASSWORD: &str = "lilies in the pond 4711";

async fn sign_in(world: &World, name: &str, password: &str) -> reqwest::Response {
    let asked = reqwest::Client::new().post(format!("{}/api/v1/session", world.url()));
    asked.json(&json!({ "name": name, "password": password })).send().await.unwrap()
}

fn cookie(response: &reqwest::Response) -> String {
    response.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned()
}

/// Who a session stands for; nothing where it is good no more.
async fn stands_for(world: &World, cookie: &str) -> Option<String> {
    let asked = reqwest::Client::new().get(format!("{}/api/v1/whoami", world.url())).header("cookie", cookie);
    let answer = asked.send().await.unwrap();
    (answer.status() == StatusCode::OK).then_some(())?;
    Some(answer.json::<Value>().await.unwrap()["name"].as_str().unwrap().to_owned())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_signs_in_with_a_password_and_another_one_signs_out_who_had_the_one_before() {
    let world = World::new().await;
    let wren = Someone::new(&world, "wren", &["--role", "look"]).await;
    let heron = Someone::new(&world, "heron", &[]).await;
    let set = async |someone: &Someone<'_>, name: &str, password: &str| {
        let (path, body) = (format!("/api/v1/users/{name}/password"), json!({ "password": password }));
        someone.ask(&Method::PUT, &path, body).await.status()
    };
    assert_eq!(set(&wren, "wren", "too short").await, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(set(&wren, "wren", "my name is wren and long").await, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(set(&heron, "wren", PASSWORD).await, StatusCode::FORBIDDEN, "another's");
    let limited = wren.token(&["limited", "--role", "look"]).await;
    assert_eq!(set(&limited, "wren", PASSWORD).await, StatusCode::FORBIDDEN, "it would allow more");
    assert_eq!(sign_in(&world, "wren", PASSWORD).await.status(), StatusCode::UNAUTHORIZED, "there is none yet");
    let (done, told) = world.pondrix_with(&["user", "password", "wren"], PASSWORD);
    assert!(done && told.contains("pondrix login --user"), "{told}");
    let signed = sign_in(&world, "wren", PASSWORD).await;
    assert_eq!(signed.status(), StatusCode::OK);
    let set_cookie = signed.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(set_cookie.contains("HttpOnly; SameSite=Strict"), "{set_cookie}");
    let first = cookie(&signed);
    assert_eq!(stands_for(&world, &first).await.as_deref(), Some("wren"));
    let long = "n".repeat(100_000);
    for (name, password) in [
        ("wren", "lilies in the pond 4712"),
        ("wren", ""),
        ("nobody", PASSWORD),
        ("", ""),
        (&long, PASSWORD),
        ("wren", &long),
    ] {
        let refused = sign_in(&world, name, password).await;
        assert_eq!(refused.status(), StatusCode::UNAUTHORIZED);
        assert!(refused.text().await.unwrap().contains("nobody of this name with this password"));
    }
    // The command line has a token made for it.
    let home = tempfile::tempdir().unwrap();
    let mut login = std::process::Command::new("sh");
    login.args(["-c", &format!("echo '{PASSWORD}' | {PONDRIX} login {} --user wren && {PONDRIX} whoami", world.url())]);
    login.env("XDG_CONFIG_HOME", home.path()).env("HOME", home.path()).env_remove("PONDRIX_TOKEN");
    let logged = said(login).await;
    assert!(logged.status == 0 && logged.out.contains("wren"), "{}{}", logged.out, logged.err);
    let tokens = wren.pondrix(&["token", "list"]).await.out;
    assert!(tokens.contains("cli-"), "{tokens}");
    // Another password, and none.
    assert_eq!(set(&wren, "wren", "dragonflies over it 17").await, StatusCode::NO_CONTENT);
    assert_eq!(stands_for(&world, &first).await, None, "signed out");
    assert_eq!(sign_in(&world, "wren", PASSWORD).await.status(), StatusCode::UNAUTHORIZED);
    let second = cookie(&sign_in(&world, "wren", "dragonflies over it 17").await);
    assert!(world.pondrix(&["user", "list"]).await.out.contains("password, tokens"));
    assert_eq!(wren.pondrix(&["user", "password", "--remove"]).await.status, 0);
    assert_eq!(stands_for(&world, &second).await, None);
    assert_eq!(wren.pondrix(&["whoami"]).await.status, 0, "tokens stay");
    let audit = world.pondrix(&["audit", "list", "--who", "wren"]).await.out;
    for action in ["sign in", "password set", "password remove"] {
        assert!(audit.contains(action), "{action}: {audit}");
    }
    for secret in [PASSWORD, "dragonflies over it 17"] {
        assert_eq!(found_in(world.folder.path(), secret), Vec::<String>::new(), "{secret}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_guesses_passwords_waits_and_is_in_the_audit() {
    let world = World::new().await;
    let _wren = Someone::new(&world, "wren", &[]).await;
    assert!(world.pondrix_with(&["user", "password", "wren"], PASSWORD).0);
    let mut last = sign_in(&world, "wren", "a wrong password").await;
    for _ in 0..40 {
        if last.status() != StatusCode::UNAUTHORIZED {
            break;
        }
        last = sign_in(&world, "wren", "a wrong password").await;
    }
    assert_eq!(last.status(), StatusCode::TOO_MANY_REQUESTS);
    let wait: u64 = last.headers()["retry-after"].to_str().unwrap().parse().unwrap();
    assert!((1..=60).contains(&wait), "{wait}");
    assert_eq!(
        sign_in(&world, "wren", PASSWORD).await.status(),
        StatusCode::TOO_MANY_REQUESTS,
        "the right one waits, too"
    );
    let audit = world.pondrix(&["audit", "list", "--action", "sign in", "--result", "refused"]).await.out;
    assert!(audit.contains("too many passwords were tried"), "{audit}");
    assert!(!audit.contains("a wrong password was"), "{audit}");
}
