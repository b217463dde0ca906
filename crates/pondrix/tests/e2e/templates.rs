//! Pipelines that use a template of another repository.

use pondrix_standin::garden::REGISTRY;

use crate::support::{World, until};

fn template(words: &str) -> String {
    format!(
        "param \"bed\"\nstage \"verify\" {{ job \"unit\" {{ container \"{REGISTRY}/base/shell:1\"\n step name=\"{{param.bed}}\" \"echo {words} $PONDRIX_PARAM_BED\" }} }}"
    )
}

const FILE: &str =
    "start commit=\"main\"\nuse \"beds\" project=\"platform\" folder=\"shared\" version=\"main\" { bed \"north\" }\n";

#[tokio::test(flavor = "multi_thread")]
async fn a_template_is_used_only_where_its_project_gives_it_and_a_change_of_it_is_told() {
    let world = World::new().await;
    let (platform, _) = world.project("platform", &[]).await;
    platform.write("shared/beds.kdl", &template("first")).unwrap();
    platform.push("A template").unwrap();
    let (labels, _) = world.project("plant-labels", &[]).await;
    // Runs of what is not protected take what moves.
    assert_eq!(world.pondrix(&["project", "set", "plant-labels", "--protect", "release"]).await.status, 0);
    labels.write("pondrix.kdl", FILE).unwrap();
    let refused = world.run_of("plant-labels", &labels.push("A pipeline").unwrap()).await;
    let faults = world.client.run(&refused).await.unwrap().faults;
    assert!(faults[0].message.contains("pondrix project set platform --templates yes"), "{faults:?}");

    let set = world.pondrix(&["project", "set", "platform", "--templates", "yes"]).await;
    assert!(set.out.contains("others may use its templates"), "{set:?}");
    let shown = world.pondrix(&["start", "plant-labels", "--follow"]).await;
    assert_eq!(shown.status, 0, "{shown:?}");
    assert!(shown.out.contains("uses platform/shared/beds.kdl@main at "), "{}", shown.out);
    assert!(!shown.out.contains("changed since"), "{}", shown.out);
    assert_eq!(world.log(&"plant-labels#2".parse().unwrap(), "verify/unit").await, "first north\n");

    platform.write("shared/beds.kdl", &template("second")).unwrap();
    let commit = platform.push("Another").unwrap();
    let name = pondrix_core::pipeline::TemplateName::new("beds", "platform", "shared", "main").unwrap();
    until("the commit", async || (world.client.template(&name).await.ok()?.commit == commit).then_some(())).await;
    let shown = world.pondrix(&["start", "plant-labels", "--follow"]).await;
    assert!(shown.out.contains("changed since plant-labels#2"), "{}", shown.out);
    assert_eq!(world.log(&"plant-labels#3".parse().unwrap(), "verify/unit").await, "second north\n");
    // A rerun is of what the run was made of.
    let again = world.pondrix(&["rerun", "plant-labels#2", "--all", "--follow"]).await;
    assert_eq!(again.status, 0, "{again:?}");
    assert_eq!(world.log(&"plant-labels#4".parse().unwrap(), "verify/unit").await, "first north\n");
}

#[tokio::test(flavor = "multi_thread")]
async fn check_and_plan_read_templates_from_the_server_and_do_without_where_they_cannot() {
    let world = World::new().await;
    let (platform, _) = world.project("platform", &[]).await;
    platform.write("shared/beds.kdl", &template("first")).unwrap();
    platform.push("A template").unwrap();
    world.pondrix(&["project", "set", "platform", "--templates", "yes"]).await;
    let file = world.folder.path().join("pondrix.kdl");
    std::fs::write(&file, FILE).unwrap();
    let path = file.to_str().unwrap();
    let name = pondrix_core::pipeline::TemplateName::new("beds", "platform", "shared", "main").unwrap();
    until("the template", async || world.client.template(&name).await.is_ok().then_some(())).await;
    let sound = world.pondrix(&["check", path]).await;
    assert_eq!((sound.status, sound.out.contains("(verify/unit)")), (0, true), "{sound:?}");
    let planned = world.pondrix(&["plan", path]).await;
    assert!(planned.out.contains("unit"), "{planned:?}");
    let offline = world.pondrix(&["check", path, "--offline"]).await;
    assert_eq!(offline.status, 0, "{offline:?}");
    assert!(offline.err.contains("platform/shared/beds.kdl@main was not looked at"), "{offline:?}");
    platform.write("shared/beds.kdl", &template("first").replace("step name", "stpe name")).unwrap();
    platform.push("A slip").unwrap();
    until("the slip", async || {
        world.client.template(&name).await.is_ok_and(|now| now.text.contains("stpe")).then_some(())
    })
    .await;
    let faulty = world.pondrix(&["check", path]).await;
    assert_eq!(faulty.status, 2, "{faulty:?}");
    assert!(faulty.out.contains("at platform/shared/beds.kdl@main:3:2"), "{faulty:?}");
    std::fs::write(&file, FILE.replace("\"beds\"", "\"beads\"")).unwrap();
    let missing = world.pondrix(&["check", path]).await;
    assert!(missing.out.contains("platform has no file shared/beads.kdl at main"), "{missing:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_of_a_protected_ref_takes_a_template_by_a_whole_commit_or_a_tag_that_stays() {
    let world = World::new().await;
    let (platform, _) = world.project("platform", &[]).await;
    platform.write("shared/beds.kdl", &template("first")).unwrap();
    let first = platform.push("A template").unwrap();
    platform.push_tag("v1", &first).unwrap();
    world.pondrix(&["project", "set", "platform", "--templates", "yes"]).await;
    let seen = async |version: &str, commit: &str| {
        let name = pondrix_core::pipeline::TemplateName::new("beds", "platform", "shared", version).unwrap();
        until("the commit", async || (world.client.template(&name).await.ok()?.commit == commit).then_some(())).await;
    };
    seen("v1", &first).await;
    let (labels, _) = world.project("plant-labels", &[]).await;
    let run_with = async |version: &str| {
        labels.write("pondrix.kdl", &FILE.replace("version=\"main\"", &format!("version=\"{version}\""))).unwrap();
        let commit = labels.push(&format!("By {version}")).unwrap();
        let run = world.run_of("plant-labels", &commit).await;
        let detail = world.end_of(&run).await;
        detail.faults.first().map(|fault| fault.message.clone()).unwrap_or_default()
    };
    for moves in ["main", &first[..12]] {
        let fault = run_with(moves).await;
        assert!(fault.contains("name a tag, or the whole commit") && fault.contains(&first), "{fault}");
    }
    assert_eq!(run_with("v1").await, "");
    assert_eq!(run_with(&first).await, "");
    platform.write("shared/beds.kdl", &template("second")).unwrap();
    let second = platform.push("Another").unwrap();
    platform.push_tag("v1", &second).unwrap();
    seen("v1", &second).await;
    let fault = run_with("v1").await;
    assert!(fault.contains("the tag `v1` of platform was") && fault.contains(&second), "{fault}");
    assert_eq!(run_with(&second).await, "", "whoever says so takes it");
    // A branch that nothing trusts may try what is new.
    labels.write("pondrix.kdl", &FILE.replace("start commit=\"main\"", "start commit=\"**\"")).unwrap();
    let tried = world.run_of("plant-labels", &labels.push_to("newest", "Try it").unwrap()).await;
    world.passes(&tried).await;
    assert_eq!(world.log(&tried, "verify/unit").await, "second north\n");
    // A project's own protected branch is as good as itself.
    platform.write("pondrix.kdl", FILE).unwrap();
    let own = world.run_of("platform", &platform.push("Its own template").unwrap()).await;
    world.passes(&own).await;
}
