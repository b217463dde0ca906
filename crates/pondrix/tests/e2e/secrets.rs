//! Secrets, and the preflight that looks for them.

use std::process::Command;

use pondrix_core::State;

use crate::support::{PONDRIX, World, one_job};

const VALUE: &str = "s3cret-of-the-lily";

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_reaches_the_job_that_names_it_and_shows_nowhere() {
    let world = World::new().await;
    let lines = "secret \"TICKET_API_KEY\"\n secret \"DEPLOY_KEY\" variable=\"KEY_FILE\" file=\"deploy.key\"\n \
                 step \"test ${#TICKET_API_KEY} = 18; echo the key is $TICKET_API_KEY, encoded $(printf %s $TICKET_API_KEY | base64)\"\n \
                 step \"echo in $KEY_FILE; cat $KEY_FILE\"\n step \"printf s3cret-; sleep 0.3; echo of-the-lily; exit 7\"";
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &one_job(lines)).unwrap();
    let set = ["secret", "set", "plant-labels", "TICKET_API_KEY"];
    assert!(world.pondrix_with(&set, &format!("{VALUE}\n")).0);
    let set = ["secret", "set", "plant-labels", "DEPLOY_KEY"];
    assert!(world.pondrix_with(&set, "-----BEGIN KEY-----\nwater\n-----END KEY-----\n").0);
    let run = world.run_of("plant-labels", &repository.push("With secrets").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed, "its last step fails on purpose");
    let expected = "the key is (secret TICKET_API_KEY), encoded (secret TICKET_API_KEY)\nin /run/pondrix/deploy.key\n\
                    (secret DEPLOY_KEY)\n(secret TICKET_API_KEY)\n";
    assert_eq!(world.log(&run, "verify/unit").await, expected);
    let listed = world.pondrix(&["secret", "list", "plant-labels"]).await;
    assert!(listed.out.contains("TICKET_API_KEY") && !listed.out.contains(VALUE), "{}", listed.out);
    // Nothing that the server or the runner keeps has it in the clear; whoever looks would see it.
    let looked = || {
        let everything = Command::new("grep").args(["-rlaF", VALUE]).arg(world.folder.path()).output().unwrap();
        String::from_utf8_lossy(&everything.stdout).into_owned()
    };
    assert_eq!(looked(), "");
    let planted = world.folder.path().join("server/planted");
    std::fs::write(&planted, format!("\0\u{1}{VALUE}\n")).unwrap();
    assert_eq!(looked().trim(), planted.display().to_string());
    std::fs::remove_file(planted).unwrap();
    let removed = world.pondrix(&["secret", "remove", "plant-labels", "TICKET_API_KEY"]).await;
    assert_eq!(removed.status, 0, "{}", removed.err);
    let twice = world.pondrix(&["secret", "remove", "plant-labels", "TICKET_API_KEY"]).await;
    assert!(twice.err.contains("see `pondrix secret list plant-labels`"), "{}", twice.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_whose_needs_are_not_there_says_all_of_them_at_once_and_runs_nothing() {
    let world = World::new().await;
    let lines = "secret \"TICKET_API_KEY\"\n secret \"OTHER_KEY\"\n step \"echo ran\"";
    let more = "stage \"more\" { job \"no-image\" { container \"registry.fernhollow.test/base/none:1\"; step \"true\" } }\n\
                stage \"p\" { image \"desk\" { push \"registry.fernhollow.test/visitor/desk\" { tag \"{run}\" } } }\n\
                stage \"s\" { rollout \"desk\" { to \"moon\"; image \"desk\"; manifests \"deploy/*\" } }\n";
    let (repository, _) = world.project("plant-labels", &[]).await;
    repository.write("pondrix.kdl", &(one_job(lines) + more)).unwrap();
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "OTHER_KEY"], VALUE).0);
    let run = world.run_of("plant-labels", &repository.push("Nothing is there").unwrap()).await;
    let detail = world.end_of(&run).await;
    assert_eq!(detail.summary.state, State::Failed);
    let shown = world.pondrix(&["show", &run.to_string()]).await;
    for wanted in [
        "Nothing of it ran",
        "verify/unit: plant-labels has no secret `TICKET_API_KEY`",
        "fix: pondrix secret set plant-labels TICKET_API_KEY",
        "more/no-image: the registry registry.fernhollow.test has no registry.fernhollow.test/base/none:1",
        "s/desk: there is no environment `moon`",
    ] {
        assert!(shown.out.contains(wanted), "no `{wanted}` in {}", shown.out);
    }
    let jobs: Vec<_> = detail.missing.iter().map(|fault| fault.job.as_str()).collect();
    assert_eq!(jobs, ["verify/unit", "more/no-image", "p/desk", "s/desk", "s/desk"], "{:?}", detail.missing);
    assert!(world.log(&run, "verify/unit").await.is_empty(), "a step ran");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_a_secret_is_refused_and_a_check_knows_the_names() {
    let world = World::new().await;
    let (repository, _) = world.project("plant-labels", &[]).await;
    for (name, value, words) in [
        ("KEY", "abc", "at least 4 letters"),
        ("A-B", VALUE, "`A-B` cannot be a secret's name"),
        ("CI", VALUE, "`CI` is a name that Pondrix itself uses"),
    ] {
        let (done, said) = world.pondrix_with(&["secret", "set", "plant-labels", name], value);
        assert!(!done && said.contains(words), "{said}");
    }
    assert!(world.pondrix_with(&["secret", "set", "plant-labels", "TICKET_API_KEY"], VALUE).0);
    repository.write("pondrix.kdl", &one_job("secret \"TICKET_API_KYE\"\n step \"true\"")).unwrap();
    let mut command = Command::new(PONDRIX);
    command.arg("check").current_dir(repository.folder());
    command.env("PONDRIX_URL", world.url()).env("PONDRIX_TOKEN", &world.token);
    let said = crate::support::said(command).await;
    assert_eq!(said.status, 2, "{}{}", said.out, said.err);
    assert!(said.out.contains("plant-labels has no secret `TICKET_API_KYE`"), "{}", said.out);
    assert!(
        said.out.contains("did you mean `TICKET_API_KEY`?") && said.out.contains("pondrix.kdl:5:16"),
        "{}",
        said.out
    );
    let mut command = Command::new(PONDRIX);
    command.args(["check", "--offline"]).current_dir(repository.folder());
    assert_eq!(crate::support::said(command).await.status, 0);
}
