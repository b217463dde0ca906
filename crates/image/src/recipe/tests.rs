use super::*;

fn actions(text: &str) -> Vec<Action> {
    let recipe = Recipe::read(text).unwrap_or_else(|faults| panic!("{faults:#?}"));
    recipe.stages.into_iter().flat_map(|stage| stage.instructions).map(|instruction| instruction.action).collect()
}

fn copy(text: &str) -> Copy {
    match actions(&format!("FROM scratch\n{text}")).pop() {
        Some(Action::Copy(copy)) => *copy,
        other => panic!("{other:?}"),
    }
}

fn run(text: &str) -> Run {
    match actions(&format!("FROM scratch\n{text}")).pop() {
        Some(Action::Run(run)) => *run,
        other => panic!("{other:?}"),
    }
}

fn faults(text: &str) -> Vec<(usize, usize, String)> {
    let faults = Recipe::read(text).unwrap_err();
    faults.into_iter().map(|fault| (fault.place.line, fault.place.column, fault.message)).collect()
}

#[test]
fn lines_are_joined_and_comments_left_out() {
    let text = "# a\nARG BASE=x.test/a:1\nfrom $BASE as  Web\n\nRUN echo a \\\n  # between\n\n  && echo b\nCMD [\"httpd\", \"-f\"]\n";
    let recipe = Recipe::read(text).unwrap();
    assert_eq!((recipe.stages[0].base.as_str(), recipe.stages[0].name.as_deref()), ("$BASE", Some("web")));
    assert_eq!(recipe.globals[0].action, Action::Arg(vec![("BASE".to_owned(), Some("x.test/a:1".to_owned()))]));
    let instructions = &recipe.stages[0].instructions;
    assert_eq!((instructions[0].line, instructions[0].text.as_str()), (5, "RUN echo a   && echo b"));
    assert_eq!(instructions[1].action, Action::Cmd(Command::Exec(vec!["httpd".to_owned(), "-f".to_owned()])));
}

#[test]
fn directives_choose_the_escape_letter_and_others_are_of_no_meaning() {
    let text = "# syntax=frontend/of-others:1\n# escape=`\nFROM scratch\nCOPY a `\n b\nENV P=C:\\x\n";
    let recipe = Recipe::read(text).unwrap();
    assert_eq!(recipe.escape, '`');
    assert_eq!(recipe.stages[0].instructions[0].text, "COPY a  b");
    // Behind anything else it is a comment.
    assert_eq!(Recipe::read("# about\n# escape=`\nFROM scratch\n").unwrap().escape, '\\');
    assert_eq!(faults("# escape=x\nFROM scratch")[0].2, "`x` cannot be the escape letter");
    assert!(Recipe::read("\u{feff}FROM scratch\r\nRUN a \\\r\n  b\r\n").is_ok());
}

#[test]
fn here_documents_stand_behind_their_instruction() {
    let script = run("RUN <<EOF\nset -e\n# not a comment of the recipe\necho $A\nEOF\n");
    assert_eq!(script.command, Command::Script("set -e\n# not a comment of the recipe\necho $A\n".to_owned()));
    let piped = run("RUN cat <<A >/x && cat <<-'B' >/y\none\nA\n\ttwo\n\tB\n");
    let text = "cat <<A >/x && cat <<-'B' >/y\none\nA\ntwo\nB";
    assert_eq!(piped.command, Command::Shell(text.to_owned()));
    let files = copy("COPY <<one.txt <<\"two.txt\" /to/\n$A\none.txt\n$B\ntwo.txt\n");
    let file = |name: &str, body: &str, expands| HereFile { name: name.to_owned(), body: body.to_owned(), expands };
    assert_eq!(files.documents, [file("one.txt", "$A\n", true), file("two.txt", "$B\n", false)]);
    assert_eq!((files.sources.len(), files.to.as_str()), (0, "/to/"));
    // What only looks like one.
    assert_eq!(run("RUN echo $((1<<2)) \"<<EOF\"").command, Command::Shell("echo $((1<<2)) \"<<EOF\"".to_owned()));
    assert_eq!(faults("FROM scratch\nRUN <<EOF\necho\n"), [(2, 1, "the text `EOF` has no end".to_owned())]);
}

#[test]
fn pairs_come_in_two_forms() {
    let pair = |name: &str, value: &str| (name.to_owned(), value.to_owned());
    let found = actions("FROM scratch\nENV A=1 B=\"x y\" C=x\\ y\nENV D d e\nLABEL a.b=c \"q r\"=s\nARG X Y=2");
    assert_eq!(found[0], Action::Env(vec![pair("A", "1"), pair("B", "\"x y\""), pair("C", "x\\ y")]));
    assert_eq!(found[1], Action::Env(vec![pair("D", "d e")]));
    assert_eq!(found[2], Action::Label(vec![pair("a.b", "c"), pair("\"q r\"", "s")]));
    assert_eq!(found[3], Action::Arg(vec![("X".to_owned(), None), ("Y".to_owned(), Some("2".to_owned()))]));
}

#[test]
fn copies_take_flags_and_lists() {
    let found = copy("COPY --from=build --chown=1:2 --chmod=755 --link --exclude=*.md --exclude=x a \"b c\" /to/");
    assert_eq!(found.sources, ["a", "\"b c\""]);
    assert_eq!(
        (found.from.as_deref(), found.owner.as_deref(), found.mode.as_deref()),
        (Some("build"), Some("1:2"), Some("755"))
    );
    assert_eq!((found.link, found.parents, found.exclude), (true, false, vec!["*.md".to_owned(), "x".to_owned()]));
    assert_eq!(copy("COPY [\"with space\", \"/to\"]").sources, ["with space"]);
    let add = copy("ADD --checksum=sha256:12 --unpack=false https://x.test/a.tar /to");
    assert_eq!((add.word, add.unpack, add.checksum.as_deref()), (CopyWord::Add, Some(false), Some("sha256:12")));
}

#[test]
fn a_mount_over_the_root_or_in_the_kernels_file_systems_is_a_fault_of_the_recipe() {
    let text = |target: &str| format!("FROM scratch\nRUN --mount=type=tmpfs,target={target} cat /../etc/hostname\n");
    for target in ["/", "/proc/self/fd/18", "/proc", "/sys/kernel", "/dev/shm", "/x/../dev", "/../proc/", "//sys/."] {
        assert_eq!(faults(&text(target)), [(2, 31, format!("nothing can be mounted at {target}"))]);
    }
    for target in ["/procedures", "/x/proc", "/system", "devices", "/$WHERE/proc"] {
        assert!(Recipe::read(&text(target)).is_ok(), "{target}");
    }
}

#[test]
fn commands_run_with_mounts_and_networks() {
    let found =
        run("RUN --mount=type=cache,target=/c,sharing=locked --mount=type=secret,id=k,dst=/k --network=none make");
    assert_eq!(found.mounts.iter().map(|mount| mount.kind).collect::<Vec<_>>(), [MountKind::Cache, MountKind::Secret]);
    assert_eq!(found.mounts[1].option("target"), Some("/k"));
    assert_eq!((found.network, found.command), (RunNetwork::None, Command::Shell("make".to_owned())));
    assert_eq!(run("RUN [\"a\", \"b\"]").command, Command::Exec(vec!["a".to_owned(), "b".to_owned()]));
    assert_eq!(run("RUN [ -f /x ]").command, Command::Shell("[ -f /x ]".to_owned()));
}

#[test]
fn what_is_allowed_and_seldom_meant_is_told_as_a_warning() {
    let recipe = Recipe::read("FROM scratch\nCMD ['httpd', '-f']\n").unwrap();
    assert_eq!(recipe.warnings[0].place.line, 2);
    assert!(recipe.warnings[0].message.contains("looks like a list"));
    let recipe = Recipe::read("FROM scratch AS one\nFROM scratch AS two\nFROM scratch AS one\n").unwrap();
    assert_eq!((recipe.warnings.len(), recipe.warnings[0].place.line), (1, 3));
    assert_eq!(recipe.warnings[0].message, "two stages are called `one`: from here on, the later is meant");
}

#[test]
fn every_fault_is_told_with_its_place() {
    let text = "FROM scratch\nCOPPY a b\nCOPY a\nENV A\nWORKDIR\nCOPY --chwon=1 a b\nRUN --mount=type=cash,target=/x y\nHEALTHCHECK --interval=5 CMD x\nONBUILD FROM x\nSHELL /bin/sh\nARG 1x\nCOPY --from=late a b\nFROM scratch AS late\nFROM scratch AS late\nRUN --mount=type=cache x\nFROM a b\n";
    let expected = [
        (2, 1, "`COPPY` is not an instruction"),
        (3, 1, "COPY takes what to copy and where to"),
        (4, 5, "ENV gives `A` no value"),
        (5, 1, "WORKDIR says nothing"),
        (6, 6, "COPY does not know `--chwon`"),
        (7, 13, "`cash` is not a kind of mount"),
        (8, 24, "`5` is not a span of time"),
        (9, 1, "ONBUILD cannot leave FROM to others"),
        (10, 1, "SHELL takes a list in JSON"),
        (11, 5, "`1x` is not an argument"),
        (12, 1, "the stage `late` comes later"),
        (15, 13, "this mount has no target"),
        (16, 1, "FROM takes one image"),
    ];
    let expected: Vec<_> = expected.map(|(line, column, message)| (line, column, message.to_owned())).into();
    assert_eq!(faults(text), expected);
    assert_eq!(faults("RUN true")[0].2, "the recipe does not begin with FROM");
    assert_eq!(faults("")[0].2, "the recipe has no FROM");
    assert_eq!(faults("ARG A\n")[0].2, "the recipe has no FROM");
}

#[test]
fn a_word_near_a_known_one_is_named() {
    let help = |text: &str| Recipe::read(text).unwrap_err()[0].help.clone().unwrap();
    assert_eq!(help("FROM scratch\nENTRYPIONT x"), "did you mean `ENTRYPOINT`?");
    assert_eq!(help("FROM scratch\nCOPY --chwon=1 a b"), "did you mean `--chown`?");
}

#[test]
fn stages_are_named_or_numbered() {
    let recipe = Recipe::read("FROM scratch AS one\nFROM scratch\nFROM one AS three\nCOPY --from=1 a b\n").unwrap();
    assert_eq!(
        (recipe.stage_named("ONE", 2), recipe.stage_named("1", 2), recipe.stage_named("three", 2)),
        (Some(0), Some(1), None)
    );
    assert_eq!((recipe.base_stage("one", 2), recipe.base_stage("0", 2)), (Some(0), None));
}

proptest::proptest! {
    #[test]
    fn any_text_is_read_or_refused_and_never_breaks(text in "(FROM|RUN|COPY|ADD|ENV|ARG|CMD|ONBUILD|HEALTHCHECK|<<E|E|--from=|--mount=type=|scratch|[ \\[\\]\\\\\"'$={},\n#a-c/])*") {
        match Recipe::read(&text) {
            Ok(recipe) => proptest::prop_assert!(!recipe.stages.is_empty()),
            Err(faults) => {
                proptest::prop_assert!(!faults.is_empty());
                faults.iter().for_each(|fault| drop(fault.render("image.recipe")));
            }
        }
    }
}
