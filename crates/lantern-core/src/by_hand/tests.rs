use std::collections::{BTreeMap, BTreeSet};

use super::*;
use crate::finding::Finding;

const OLD_PIER: &str = r#"
name = "Old Pier"
usual-wait = "6 days"
address = "https://old-pier.example/berths"

[hand-over."*"]
name = "{game.name} {release.version} {target}.zip"
top = "{game.name}"
must-have = ["**/*.exe"]

[hand-over.phone]
form = "package"
name = "saltmarsh-{release.number}.apk"

[[steps.push]]
id = "carry"
text = "Copy the archives into the shared folder of berth {values.berth}."
files = true
takes = "20 minutes"

[[steps.push]]
id = "letter"
text = "Send them the letter."
open = "mailto:berths@old-pier.example"
paste = [{ field = "letter", text = "{notes.en}\n\n{hand-over.digests}" }]
read-back = [{ key = "number-there", ask = "The berth number they answer with", form = "digits" }]

[[steps.promote]]
id = "thursday"
text = "Berth {read-back.number-there} goes out on the next Thursday."
by = "publisher"
waits = true
"#;

/// The example of the guide, which the demo works with.
const EXAMPLE: &str = include_str!("../../../../docs/examples/old-pier.toml");

#[test]
fn the_guide_shows_the_example_and_it_is_read() {
    let guide = include_str!("../../../../docs/by-hand.md");
    assert!(guide.contains(&format!("```toml\n{EXAMPLE}```")), "docs/by-hand.md shows other rules than its example");
    let rules = around(|around| HandRules::read("old-pier.toml", EXAMPLE, around)).unwrap();
    assert_eq!((rules.name.as_deref(), rules.steps.push.len(), rules.steps.promote.len()), (Some("Old Pier"), 2, 1));
}

fn around(run: impl FnOnce(Around<'_>) -> Result<HandRules, Vec<Finding>>) -> Result<HandRules, Vec<Finding>> {
    let targets: BTreeSet<Name> = ["windows", "linux", "phone"].iter().map(|t| t.parse().unwrap()).collect();
    let values = BTreeMap::from([("berth".to_owned(), "7".to_owned())]);
    run(Around { targets: &targets, values: &values })
}

fn read(text: &str) -> Result<HandRules, Vec<Finding>> {
    around(|around| HandRules::read("places/old-pier.toml", text, around))
}

/// What is wrong, as `line: what | fix`.
fn wrong(text: &str) -> Vec<String> {
    let line = |f: &Finding| {
        let line = f.place.as_ref().map_or(0, |p| p.line);
        format!("{line}: {} | {}", f.what, f.fix.as_deref().unwrap_or_default())
    };
    read(text).unwrap_err().iter().map(line).collect()
}

#[test]
fn rules_are_read() {
    // In the promotion nothing is read back that it could name; the sample shows what is found.
    assert_eq!(
        wrong(OLD_PIER),
        [
            "30: no step reads \"number-there\" back | write read-back = [{ key = \"…\", ask = \"…\" }] into a step before it"
        ]
    );
    let rules = read(&OLD_PIER.replace("{read-back.number-there}", "{release.number-there}")).unwrap();
    assert_eq!(rules.usual_wait, Some(SignedDuration::from_hours(6 * 24)));
    let form = |target: &str| rules.hand_over_of(&target.parse().unwrap()).unwrap().form;
    assert_eq!((form("windows"), form("phone")), (HandForm::Zip, HandForm::Package));
    let ids = |steps: &[StepRule]| steps.iter().map(|s| s.id.to_string()).collect::<Vec<_>>();
    assert_eq!(ids(&rules.steps.push), ["carry", "letter"]);
    // What is silent has one plain step.
    assert_eq!(ids(&rules.steps.rollback), ["put-back"]);
    assert_eq!(ids(&rules.steps.withdraw), ["take-away"]);
}

#[test]
fn an_empty_file_is_a_storefront_that_can_be_used() {
    let rules = read("").unwrap();
    let any = rules.hand_over_of(&"linux".parse().unwrap()).unwrap();
    assert_eq!(any.name.to_string(), "{game.name} {release.version} {target}.zip");
    assert_eq!(rules.steps.push[0].read_back[0].key.as_str(), "number-there");
    assert!(rules.steps.push[0].files && rules.steps.push[0].read_back[0].optional);
}

#[test]
fn each_mistake_has_its_place_and_fix() {
    for (text, expected) in [
        ("moon = 1", "1: unknown key \"moon\" | known here: "),
        ("usual-wiat = \"6 days\"", "1: unknown key \"usual-wiat\" | did you mean \"usual-wait\"?"),
        ("usual-wait = \"soon\"", "1: \"soon\" is not a length of time of at most a year | write \"20 minutes\""),
        ("usual-wait = \"400 days\"", "1: \"400 days\" is not a length of time of at most a year"),
        ("[hand-over.widnows]", "1: no target \"widnows\" goes there | did you mean \"windows\"?"),
        (
            "[hand-over.\"*\"]\nform = \"zip\"\nname = \"x.tar\"",
            "3: the name of such a file ends with .zip | write \"x.tar.zip\"",
        ),
        ("[hand-over.\"*\"]\nform = \"rar\"", "2: \"rar\" is not a value of hand-over.*.form"),
        ("[hand-over.\"*\"]\nform = \"package\"\ntop = \"x\"", "1: a package is one file"),
        ("[hand-over.\"*\"]\nname = \"{traget}.zip\"", "2: {traget} is not a value | did you mean {target}?"),
        (
            "[[steps.push]]\nid = \"a\"\ntext = \"{release.number-there.widnows}\"",
            "3: no target \"widnows\" goes there | did you mean \"windows\"?",
        ),
        (
            "[[steps.push]]\nid = \"a\"\ntext = \"b\"\nread-back = [{ key = \"number-there-moon\", ask = \"?\" }]",
            "4: no target \"moon\" goes there | the targets that go there are ",
        ),
        ("[[steps.push]]\nid = \"a\"", "1: an item of steps.push has no \"text\" | add text"),
        ("[[steps.push]]\nid = \"A b\"\ntext = \"x\"", "2: "),
        (
            "[[steps.push]]\nid = \"a\"\ntext = \"to {values.brth}\"",
            "3: there is no value \"brth\" for this storefront | did you mean {values.berth}?",
        ),
        (
            "[[steps.push]]\nid = \"a\"\ntext = \"{notes.x}\"",
            "3: \"x\" is not a language | write a language tag, such as {notes.en}",
        ),
        (
            "[[steps.push]]\nid = \"a\"\ntext = \"x\"\n[[steps.push]]\nid = \"a\"\ntext = \"y\"",
            "5: two steps of push have the id a | rename one of them",
        ),
        ("one-at-a-time = true", "1: the old file has to go first, but no step says"),
    ] {
        let found = wrong(text);
        assert!(found.iter().any(|line| line.starts_with(expected)), "{text}\n{found:#?}");
    }
    let many = "[[steps.push]]\nid = \"a\"\ntext = \"x\"\n".repeat(MAX_STEPS + 1);
    assert_eq!(wrong(&many)[0].split(" | ").next().unwrap(), "1: 101 steps, at most 100 are walked through");
}

#[test]
fn a_step_is_filled_but_for_what_is_read_back() {
    let rules = read(&OLD_PIER.replace("{read-back.number-there} goes", "{release.number-there} {{so}} goes")).unwrap();
    let mut values = Values::default();
    values.set("release.number-there", "{12}");
    values.set("hand-over.digests", "abc  x.zip");
    let step = rules.steps.promote[0].filled(&values, Some("oar"));
    assert_eq!(step.text, "Berth {{12}} {{so}} goes out on the next Thursday.");
    assert_eq!(step.by.as_deref(), Some("oar (publisher)"));
    assert_eq!(rules.steps.promote[0].filled(&values, None).by.as_deref(), Some("publisher"));
}

#[test]
fn every_draft_is_a_file_of_rules_that_is_read() {
    for bits in 0..32_u32 {
        let is = |bit: u32| bits & (1 << bit) != 0;
        for form in [HandForm::Folder, HandForm::Zip, HandForm::TarGz, HandForm::Package] {
            let draft = Draft {
                name: "Old \"Pier\"\n".into(),
                address: is(0).then(|| "https://old-pier.example".into()),
                form,
                has_top: is(1),
                gives_number: is(2),
                one_at_a_time: is(3),
                waits: is(4),
                usual_wait: is(4).then(|| "6 days".into()),
            };
            let text = draft.text();
            let rules = read(&text).unwrap_or_else(|findings| panic!("{text}\n{findings:#?}"));
            assert_eq!(rules.one_at_a_time, is(3));
            assert_eq!(rules.name.as_deref(), Some("Old \"Pier\"\n"));
        }
    }
}
