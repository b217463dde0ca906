//! Signed tokens that say which job somebody is, instead of passwords that are kept.

use std::time::{SystemTime, UNIX_EPOCH};

use pondrix_core::Time;
use pondrix_identity::{Expected, PublicKeys, check};
use pondrix_standin::garden::REGISTRY;
use pondrix_standin::registry::Trust;
use serde_json::Value;

use crate::images::{found_in, one_image};
use crate::support::{World, one_job};

const VAULT: &str = "https://vault.fernhollow.test";

fn now() -> Time {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
    Time::from_millis(i64::try_from(since.as_millis()).unwrap())
}

async fn listed(world: &World) -> PublicKeys {
    let get = async |address: String| reqwest::get(address).await.unwrap().json::<Value>().await.unwrap();
    let discovery = get(format!("{}/.well-known/openid-configuration", world.url())).await;
    assert_eq!(discovery["issuer"], world.url());
    serde_json::from_value(get(discovery["jwks_uri"].as_str().unwrap().to_owned()).await).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_is_given_a_token_that_says_who_it_is_and_that_others_can_check() {
    let world = World::new().await;
    let job = format!(
        "identity \"{VAULT}\" file=\"vault.jwt\" variable=\"VAULT\"\n identity \"other\" lasts=\"5m\"\n \
         step \"cp $VAULT first.jwt; printf %s $PONDRIX_IDENTITY > other.jwt; cat $VAULT; echo; echo $PONDRIX_IDENTITY\"\n \
         step \"cp $VAULT second.jwt\"\n artifact \"tokens\" \"*.jwt\" holds-secrets=#true"
    );
    let (_, run) = world.run_of_pipeline("plant-labels", &one_job(&job)).await;
    let ended = world.passes(&run).await;
    let log = world.log(&run, "verify/unit").await;
    let shown = format!("(secret identity for {VAULT})\n(secret identity for other)\n");
    assert!(log.contains(&shown), "{log}");
    let into = world.folder.path().join("tokens");
    let fetch = ["artifact", "fetch", &run.to_string(), "tokens", "--into", into.to_str().unwrap()];
    assert_eq!(world.pondrix(&fetch).await.status, 0);
    let token = |name: &str| std::fs::read_to_string(into.join(name)).unwrap();
    let (first, second, other) = (token("first.jwt"), token("second.jwt"), token("other.jwt"));
    assert_ne!(first, second, "each step has one of its own");
    let keys = listed(&world).await;
    let expected = Expected { issuer: world.url(), audience: VAULT, now: now() };
    let claims = check(&first, &keys, expected).unwrap();
    for (name, value) in [
        ("sub", "project/plant-labels/branch/main"),
        ("project", "plant-labels"),
        ("ref", "refs/heads/main"),
        ("job", "verify/unit"),
        ("start", "commit"),
        ("commit", &ended.summary.commit),
    ] {
        assert_eq!(claims[name], *value, "{claims:?}");
    }
    assert_eq!((&claims["protected"], claims.get("environment")), (&Value::Bool(true), None));
    assert_eq!(claims["exp"].as_i64().unwrap() - claims["iat"].as_i64().unwrap(), 900);
    let claims = check(&other, &keys, Expected { audience: "other", ..expected }).unwrap();
    assert_eq!(claims["exp"].as_i64().unwrap() - claims["iat"].as_i64().unwrap(), 300);
    assert!(check(&other, &keys, expected).is_err(), "it is for somebody else");
    let later = Expected { now: now().plus_millis(2 * 3_600_000), ..expected };
    assert!(check(&first, &keys, later).is_err(), "and not for ever");
    let noted = world.pondrix(&["audit", "list", "--action", "identity give"]).await.out;
    assert_eq!(noted.matches(VAULT).count(), 2, "{noted}");
    let found = found_in(&world.folder.path().join("server"), first.rsplit_once('.').unwrap().1);
    assert!(found.iter().all(|file| file.contains("/files/")), "only the artifact that may: {found:?}");
    // A key that was given away: what it signed is believed no more.
    let renewed = world.pondrix(&["key", "rotate", "--identity"]).await;
    assert_eq!(renewed.status, 0, "{}", renewed.err);
    assert!(check(&first, &listed(&world).await, expected).is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_registry_takes_the_identity_of_the_jobs_of_one_project_and_no_password_is_kept() {
    let world = World::new().await;
    world.registry.trust([Trust {
        issuer: world.url().to_owned(),
        audience: "pond".to_owned(),
        user: "garden".to_owned(),
        project: "plant-labels".to_owned(),
        below: "garden/".to_owned(),
    }]);
    let add = ["registry", "add", REGISTRY, "--user", "garden", "--identity", "pond", "--repository", "garden/*"];
    let said = world.pondrix(&add).await;
    assert!(said.out.contains("garden signs in with the job's identity for pond for garden/*"), "{}", said.out);
    let push = async |name: &'static str| {
        let (project, _) = world.project(name, &[]).await;
        project.write("image.recipe", &format!("FROM {REGISTRY}/base/shell:1\nRUN true\n")).unwrap();
        project.write("pondrix.kdl", &one_image("")).unwrap();
        world.run_of(name, &project.push("Labels").unwrap()).await
    };
    let own = push("plant-labels").await;
    world.passes(&own).await;
    let seen = world.registry.identities_seen();
    let job = seen.last().unwrap();
    assert_eq!((job["job"].as_str(), job["run"].as_u64()), (Some("package/labels"), Some(1)), "{job}");
    // Who could show that themselves would push what they like, under any tag.
    let asking = one_job("identity \"pond\"\n step \"echo $PONDRIX_IDENTITY\"").replace("\"main\"", "\"**\"");
    let (bed, _) = world.project("seed-bank", &[]).await;
    bed.write("pondrix.kdl", &asking).unwrap();
    let asked = world.run_of("seed-bank", &bed.push("Ask").unwrap()).await;
    let why = world.end_of(&asked).await.failure.unwrap().what;
    assert!(why.contains("no job of commands is given one"), "{why}");
    // The same registry, the same account: the identity is another one.
    let others = push("visitor-desk").await;
    let barred = &world.end_of(&others).await.missing[0];
    assert!(barred.what.contains("it does not take the job's identity for pond, as garden"), "{barred:?}");
    let name = format!("{REGISTRY}/garden/labels");
    let tested = world.pondrix(&["registry", "test", &name, "--project", "plant-labels"]).await.out;
    assert_eq!(tested.matches(" yes ").count(), 3, "{tested}");
    assert_eq!(world.registry.identities_seen().last().unwrap()["sub"], "project/plant-labels");
    let tested = world.pondrix(&["registry", "test", &name]).await.out;
    assert!(tested.contains("nobody signs in"), "{tested}");
    let both = ["registry", "add", REGISTRY, "--user", "garden", "--identity", "--same-password"];
    assert_eq!(world.pondrix(&both).await.status, 2);
    let (password, said) = world.pondrix_with(&["registry", "add", REGISTRY, "--user", "garden"], "lily-pad-4711");
    assert!(password && said.contains("garden signs in for garden/*"), "a password again: {said}");
}
