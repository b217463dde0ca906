//! People who are signed in by a provider of OpenID Connect.

use std::sync::Arc;

use pondrix_standin::provider::Provider;
use reqwest::header::{COOKIE, LOCATION, SET_COOKIE};
use reqwest::redirect::Policy;
use reqwest::{Client, Response, StatusCode};
use serde_json::{Value, json};
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio_util::sync::CancellationToken;

use crate::someone::Someone;
use crate::support::{PONDRIX, World, listener};

const SECRET: &str = "dew-on-the-lily-4711";

/// A world whose people are signed in by a provider.
pub(crate) struct Place {
    pub(crate) world: World,
    pub(crate) provider: Arc<Provider>,
    issuer: String,
    stop: CancellationToken,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

impl Place {
    pub(crate) async fn new(more: &[&str]) -> Self {
        let world = World::new().await;
        let listener = listener().await;
        let issuer = format!("http://{}", listener.local_addr().unwrap());
        let provider = Provider::new(&issuer, "pond", SECRET).unwrap();
        let stop = CancellationToken::new();
        tokio::spawn(Arc::clone(&provider).serve(listener, stop.clone()));
        let set = [&["openid", "set", &issuer, "--client", "pond", "--secret"], more].concat();
        let (done, said) = world.pondrix_with(&set, SECRET);
        assert!(done && said.contains("/sign-in/openid/callback"), "{said}");
        provider.person(&json!({ "sub": "4711", "preferred_username": "wren", "groups": ["growers"] }));
        Self { world, provider, issuer, stop }
    }
}

/// A browser, as far as it goes where it is sent and keeps cookies.
#[derive(Default)]
struct Browser {
    cookies: std::collections::BTreeMap<String, String>,
}

impl Browser {
    async fn get(&mut self, url: &str) -> Response {
        let client = Client::builder().redirect(Policy::none()).build().unwrap();
        let cookies: Vec<_> = self.cookies.iter().map(|(name, value)| format!("{name}={value}")).collect();
        let response = client.get(url).header(COOKIE, cookies.join("; ")).send().await.unwrap();
        for cookie in response.headers().get_all(SET_COOKIE) {
            let cookie = cookie.to_str().unwrap();
            let (name, value) = cookie.split(';').next().unwrap().split_once('=').unwrap();
            self.cookies.insert(name.to_owned(), value.to_owned());
        }
        response
    }

    /// Goes to the provider and answers where that sends back to.
    async fn away(&mut self, place: &Place, question: &str) -> String {
        let went = self.get(&format!("{}/sign-in/openid{question}", place.world.url())).await;
        let to = sent_to(&went);
        assert!(to.starts_with(&place.issuer), "{to}");
        sent_to(&self.get(&to).await)
    }

    /// Who it is signed in as; nothing where it is not.
    async fn who(&mut self, place: &Place) -> Option<Value> {
        let answer = self.get(&format!("{}/api/v1/whoami", place.world.url())).await;
        if answer.status() == StatusCode::OK { Some(answer.json().await.unwrap()) } else { None }
    }

    /// Comes back, and is not signed in, for these reasons.
    async fn refused(&mut self, place: &Place, back: &str) -> String {
        assert_eq!(sent_to(&self.get(back).await), "/");
        assert!(self.who(place).await.is_none());
        let words = self.cookies.remove("pondrix_said").unwrap();
        let url = reqwest::Url::parse(&format!("http://x/?words={words}")).unwrap();
        url.query_pairs().next().unwrap().1.into_owned()
    }
}

fn sent_to(response: &Response) -> String {
    assert_eq!(response.status(), StatusCode::SEE_OTHER);
    response.headers()[LOCATION].to_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_the_provider_signs_in_is_known_from_then_on_and_of_the_teams_that_it_says() {
    let place = Place::new(&["--only", "growers"]).await;
    let world = &place.world;
    assert_eq!(world.pondrix(&["role", "give", "team:growers", "look", "--project", "*"]).await.status, 0);
    let mut browser = Browser::default();
    let back = browser.away(&place, "?to=/images").await;
    assert_eq!(sent_to(&browser.get(&back).await), "/images");
    let who = browser.who(&place).await.unwrap();
    assert_eq!((&who["name"], &who["teams"]), (&json!("wren"), &json!(["growers"])));
    let people = world.pondrix(&["user", "list"]).await.out;
    assert!(people.contains("wren") && people.contains("growers"), "{people}");
    // Another name of the same person is theirs, and another person of the same name is not.
    place
        .provider
        .person(&json!({ "sub": "4711", "preferred_username": "wren-fern", "groups": ["growers", "keepers"] }));
    let mut again = Browser::default();
    let back = again.away(&place, "").await;
    again.get(&back).await;
    let who = again.who(&place).await.unwrap();
    assert_eq!((&who["name"], &who["teams"]), (&json!("wren"), &json!(["growers", "keepers"])));
    for (claims, expected) in [
        (
            json!({ "sub": "4712", "preferred_username": "wren", "groups": ["growers"] }),
            "somebody called wren is known",
        ),
        (json!({ "sub": "9", "preferred_username": "admin", "groups": ["growers"] }), "pondrix user link admin 9"),
        (json!({ "sub": "4713", "preferred_username": "heron" }), "one of these groups may sign in here: growers"),
        (json!({ "sub": "4713", "preferred_username": "a b@c", "groups": "growers" }), "cannot be a person's name"),
        (json!({}), "access_denied: nobody is here"),
    ] {
        place.provider.person(&claims);
        let mut other = Browser::default();
        let back = other.away(&place, "").await;
        let words = other.refused(&place, &back).await;
        assert!(words.contains(expected), "{words}");
    }
    // Until whoever administers the server says that it is.
    assert_eq!(world.pondrix(&["user", "link", "admin", "9"]).await.status, 0);
    place.provider.person(&json!({ "sub": "9", "preferred_username": "admin", "groups": ["growers"] }));
    let mut linked = Browser::default();
    let back = linked.away(&place, "").await;
    linked.get(&back).await;
    assert_eq!(linked.who(&place).await.unwrap()["name"], "admin");
    let audit = world.pondrix(&["audit", "list", "--action", "sign in"]).await.out;
    assert!(audit.contains("wren") && audit.contains("refused") && audit.contains("4712"), "{audit}");
    assert_eq!(world.pondrix(&["openid", "remove"]).await.status, 0);
    let words = Browser::default().refused(&place, &format!("{}/sign-in/openid", world.url())).await;
    assert!(words.contains("nobody is signed in that way"), "{words}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_signed_in_by_what_was_given_for_somebody_else() {
    let place = Place::new(&[]).await;
    let mut browser = Browser::default();
    let back = browser.away(&place, "").await;
    // Somebody else's browser, led to an address with another's code.
    let mut lured = Browser::default();
    let words = lured.refused(&place, &back).await;
    assert!(words.contains("did not begin in this browser"), "{words}");
    lured.away(&place, "").await;
    let words = lured.refused(&place, &back).await;
    assert!(words.contains("did not begin in this browser"), "also where it had begun to sign in: {words}");
    // Nor does anybody read words there that are not the provider's.
    let made_up = format!("{}/sign-in/openid/callback?error=closed&error_description=mail+pike", place.world.url());
    lured.away(&place, "").await;
    for mut led in [Browser::default(), lured] {
        let words = led.refused(&place, &made_up).await;
        assert!(words.contains("did not begin in this browser") && !words.contains("pike"), "{words}");
    }
    // The code is good once.
    browser.get(&back).await;
    assert!(browser.who(&place).await.is_some());
    let mut replayed = Browser { cookies: browser.cookies.clone() };
    replayed.cookies.remove("pondrix_session");
    assert!(replayed.refused(&place, &back).await.contains("did not begin"), "the cookie is gone");
    for (lie, expected) in [
        (json!({ "nonce": "another" }), "it was given for another sign-in"),
        (json!({ "aud": "lake" }), "it is not for pond"),
        (json!({ "iss": "https://lake.test" }), "it is of https://lake.test"),
        (json!({ "exp": 1 }), "it is no longer good"),
    ] {
        place.provider.lie(&lie);
        let mut browser = Browser::default();
        let back = browser.away(&place, "").await;
        let words = browser.refused(&place, &back).await;
        assert!(words.contains(expected), "{words}");
    }
    place.provider.lie(&json!({}));
    // Another key than before is found by itself.
    place.provider.renew_key().unwrap();
    let mut browser = Browser::default();
    let back = browser.away(&place, "?to=//lake.test").await;
    assert_eq!(sent_to(&browser.get(&back).await), "/", "and nobody is sent to another site");
    assert!(browser.who(&place).await.is_some());
    // What the server shows the provider is sealed, and goes with another address.
    let found = crate::images::found_in(&place.world.folder.path().join("server"), SECRET);
    assert_eq!(found, Vec::<String>::new());
    let elsewhere = ["openid", "set", "http://127.0.0.1:9", "--client", "pond"];
    let said = place.world.pondrix(&elsewhere).await;
    assert!(said.err.contains("127.0.0.1:9/.well-known/openid-configuration"), "{}", said.err);
    let open = ["openid", "set", "http://id.fernhollow.test", "--client", "pond"];
    assert!(place.world.pondrix(&open).await.err.contains("is not reached over TLS"));
    let person = Someone::new(&place.world, "ines", &[]).await;
    assert_eq!(person.pondrix(&["openid", "show"]).await.status, 4, "it is the administrators'");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_signs_a_program_in_that_waits_on_the_same_machine() {
    let place = Place::new(&[]).await;
    let home = tempfile::tempdir().unwrap();
    let mut program = tokio::process::Command::new(PONDRIX)
        .args(["login", place.world.url(), "--openid"])
        .env("HOME", home.path())
        .env("XDG_CONFIG_HOME", home.path())
        .env_remove("PONDRIX_TOKEN")
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(program.stderr.take().unwrap()).lines();
    let address = loop {
        let line = lines.next_line().await.unwrap().unwrap();
        if let Some(address) = line.trim().strip_prefix(place.world.url()) {
            break address.trim_start_matches("/sign-in/openid").to_owned();
        }
    };
    let mut browser = Browser::default();
    let back = browser.away(&place, &address).await;
    let to = sent_to(&browser.get(&back).await);
    assert!(to.starts_with("http://127.0.0.1:"), "{to}");
    assert!(browser.who(&place).await.is_none(), "the browser itself is not signed in by that");
    // Whoever saw the code cannot use it: it is asked what the program alone knows.
    let code = to.rsplit_once("code=").unwrap().1;
    let shown = browser.get(&to).await;
    assert!(shown.text().await.unwrap().contains("You are signed in"));
    let output = program.wait_with_output().await.unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success() && said.contains("as wren"), "{said}");
    let http = Client::new();
    let session = format!("{}/api/v1/session", place.world.url());
    for verifier in ["guessed", ""] {
        let body = json!({ "code": code, "verifier": verifier });
        assert_eq!(http.post(&session).json(&body).send().await.unwrap().status(), StatusCode::UNAUTHORIZED);
    }
    let mut whoami = tokio::process::Command::new(PONDRIX);
    whoami.arg("whoami").env("HOME", home.path()).env("XDG_CONFIG_HOME", home.path()).env_remove("PONDRIX_TOKEN");
    let who = crate::support::said(whoami.into_std()).await;
    assert!(who.out.contains("wren"), "{}{}", who.out, who.err);
}
