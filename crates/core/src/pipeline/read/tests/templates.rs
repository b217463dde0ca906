//! Templates: what they say, and faults in them and in their use.

use super::faults;
use crate::pipeline::{JobKind, NoTemplate, Pipeline, TemplateName, Templates, read, read_with, uses};

const SERVICE: &str = r#"
about "A service: test it, and build its image"
param "image" help="Where the image goes, without the registry"
param "tests" default="./test.sh"
param "base" default="shell" { one-of "shell" "web" }
env BED="north"
stage "verify" {
    job "unit" {
        container "registry.fernhollow.test/base/{param.base}:1"
        env BED="south"
        service "db" "registry.fernhollow.test/base/{param.base}:1" { run "echo $PONDRIX_PARAM_IMAGE" }
        step name="{param.tests}" "sh $PONDRIX_PARAM_TESTS"
    }
}
stage "package" {
    image "service" { push "registry.fernhollow.test/{param.image}" { tag "{commit.short}" } }
}
"#;

fn templates(text: &str) -> Templates {
    let name = TemplateName::new("service", "platform", "templates", "2").unwrap();
    [(name, Ok(text.to_owned()))].into()
}

fn with(text: &str, template: &str) -> Result<Pipeline, String> {
    read_with(text, &templates(template)).map_err(|faults| {
        let shown = faults.iter().map(|fault| fault.render("pondrix.kdl"));
        shown.collect::<Vec<_>>().join("\n")
    })
}

#[test]
fn a_file_of_four_lines_has_the_stages_of_its_template_with_its_own_values() {
    let text = r#"
start commit="main"
use "service" project="platform" folder="templates" version="2" { image "visitor/desk" }
stage "staging" { rollout "service" { to "staging"; image "service"; manifests "deploy/*.yaml" } }
"#;
    let pipeline = with(text, SERVICE).unwrap();
    let names: Vec<_> = pipeline.stages.iter().map(|stage| stage.name.value.as_str()).collect();
    assert_eq!(names, ["verify", "package", "staging"]);
    let JobKind::Steps(steps) = &pipeline.stages[0].jobs[0].kind else { panic!("it has steps") };
    assert_eq!(steps.images().next().unwrap().value, "registry.fernhollow.test/base/shell:1");
    assert_eq!(
        (steps.steps[0].name.as_str(), steps.steps[0].command.as_str()),
        ("./test.sh", "sh $PONDRIX_PARAM_TESTS")
    );
    assert_eq!((steps.env["BED"].as_str(), steps.services[0].env["BED"].as_str()), ("south", "north"));
    assert_eq!(steps.services[0].env["PONDRIX_PARAM_IMAGE"], "visitor/desk");
    assert_eq!(pipeline.stages[0].env["PONDRIX_PARAM_TESTS"], "./test.sh");
    let JobKind::Image(image) = &pipeline.stages[1].jobs[0].kind else { panic!("it is an image job") };
    assert_eq!(image.pushes[0].repository.to_string(), "registry.fernhollow.test/visitor/desk");
    assert_eq!(pipeline.stages[2].env.len(), 0, "only its own stages see a template's values");
}

#[test]
fn values_that_are_missing_unknown_or_not_accepted_are_told_where_the_template_is_used() {
    let text =
        "use \"service\" project=\"platform\" folder=\"templates\" version=\"2\" { imaeg \"x\"; base \"stone\" }";
    let shown = with(text, SERVICE).unwrap_err();
    for words in [
        "the template platform/templates/service.kdl@2 needs `image`",
        "Where the image goes, without the registry: write image \"VALUE\" in the braces",
        "has no parameter `imaeg`",
        "did you mean `image`?",
        "`stone` is not accepted for `base`",
        "write one of shell, web",
        "at pondrix.kdl:1:67",
    ] {
        assert!(shown.contains(words), "{words} is not in:\n{shown}");
    }
}

#[test]
fn faults_in_a_template_name_its_file_and_the_line_there() {
    let text = "use \"service\" project=\"platform\" folder=\"templates\" version=\"2\" { image \"visitor/desk\" }";
    let faulty = SERVICE.replace("step name", "stpe name").replace("{param.base}:1\"\n", "{param.bsae}:1\"\n");
    let shown = with(text, &faulty).unwrap_err();
    let place = "`stpe` is not a word here
    at platform/templates/service.kdl@2:12:9";
    assert!(shown.contains(place), "{shown}");
    assert!(shown.contains("this template has no parameter `bsae`"), "{shown}");
    let in_command = SERVICE.replace("sh $PONDRIX_PARAM_TESTS", "sh {param.tests}");
    let shown = with(text, &in_command).unwrap_err();
    assert!(shown.contains("parameters are not filled in inside a command"), "{shown}");
    let starts = format!("{SERVICE}\nstart commit=\"main\"");
    assert!(with(text, &starts).unwrap_err().contains("`start` is not a word here"));
    let broken = with(text, "stage \"x\" {").unwrap_err();
    assert!(broken.contains("at platform/templates/service.kdl@2:"), "{broken}");
}

#[test]
fn what_the_whole_shows_is_found_across_a_file_and_its_templates() {
    let text = "use \"service\" project=\"platform\" folder=\"templates\" version=\"2\" { image \"visitor/desk\" }
stage \"verify\" { job \"x\" { container \"x.test/y:1\"; step \"true\" } }
stage \"staging\" { rollout \"r\" { to \"staging\"; image \"servcie\"; manifests \"deploy/*.yaml\" } }";
    let shown = with(text, SERVICE).unwrap_err();
    assert!(shown.contains("two stages are called `verify`"), "{shown}");
    assert!(shown.contains("no earlier stage builds an image `servcie`"), "{shown}");
}

#[test]
fn without_its_templates_a_file_is_checked_as_far_as_it_goes() {
    let text = "use \"service\" project=\"platform\" folder=\"templates\" version=\"2\"
stage \"staging\" { rollout \"r\" { to \"staging\"; image \"service\"; manifests \"deploy/*.yaml\" } }";
    assert_eq!(read(text).unwrap().stages.len(), 1);
    assert!(read(&text.replace("manifests", "manifest")).is_err());
    let name = TemplateName::new("service", "platform", "templates", "2").unwrap();
    let refused: Templates = [(name, Err(NoTemplate("the project `platform` gives none".to_owned())))].into();
    let faults = read_with(text, &refused).unwrap_err();
    assert_eq!(faults.len(), 1, "{faults:?}");
    assert!(faults[0].message.contains("cannot be used: the project `platform` gives none"));
}

#[test]
fn where_a_template_is_from_leads_nowhere_else() {
    for (name, project, folder, version, place) in [
        ("Service", "platform", "", "1", "1:5"),
        ("service", "Plat", "", "1", "1:15"),
        ("service", "", "", "1", "1:15"),
        ("service", "platform", "../x", "1", "1:34"),
        ("service", "platform", "/x", "1", "1:34"),
        ("service", "platform", "", "", "1:44"),
        ("service", "platform", "", "-x", "1:44"),
        ("service", "platform", "", "a b", "1:44"),
    ] {
        let error = TemplateName::new(name, project, folder, version).unwrap_err();
        let text = format!("use {name:?} project={project:?} folder={folder:?} version={version:?}");
        assert_eq!(faults(&text), [format!("{place} {error}")], "{text}");
    }
    assert_eq!(faults("use \"service\" version=\"1\""), ["1:1 `use` does not say where the template is"]);
    assert_eq!(TemplateName::new("a", "p", "", "main").unwrap().path(), "a.kdl");
    assert_eq!(TemplateName::new("a", "p", "b/c/", "main").unwrap().to_string(), "p/b/c/a.kdl@main");
    let twice = "use \"a\" project=\"p\" version=\"1\"\nuse \"a\" project=\"p\" version=\"1\"\nuse \"b\" project=\"p\" version=\"1\"\nuse \"c\"";
    assert_eq!(uses(twice).len(), 2);
}
