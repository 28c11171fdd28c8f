//! Documents of someone newer, sent through every command: what is not known is passed on, and nothing ends over it.

use lantern_rehearsal::stand_in::StandInDocument;
use serde_json::{Value, json};

use crate::env::{TestEnv, rewriting_line_to};

/// Adds to an answer what a newer storefront may say in it.
fn from_the_future(path: &str, mut answer: Value) -> Value {
    if let Some(object) = answer.as_object_mut() {
        object.insert("moon".into(), json!({ "phase": ["full", 7] }));
    }
    if path.ends_with("/rules") {
        answer["must-understand"] = json!(["accepted", "numbers"]);
        answer["contact"] = json!("wren@paper-heron.example");
        answer["branches"]["waiting-room"] = json!(true);
        answer["accepted"]["systems"].as_array_mut().unwrap().push(json!("linux-riscv64"));
        answer["branches"]["fixed"]
            .as_array_mut()
            .unwrap()
            .push(json!({ "name": "guild", "audience": "guild-members" }));
    }
    if path.ends_with("/branches") {
        let guild = json!({ "branch": "guild", "audience": "guild-members", "revision": 0, "since": null, "by": null, "targets": {} });
        answer["branches"].as_array_mut().unwrap().push(guild);
    }
    if path.ends_with("/builds") {
        for build in answer.get_mut("builds").and_then(Value::as_array_mut).into_iter().flatten() {
            build["targets"]["far"] = build["targets"]["linux"].clone();
            build["targets"]["far"]["systems"] = json!(["linux-riscv64"]);
            build["share"] = json!(25);
        }
    }
    if path.contains("/v1/play/") && answer["builds"].is_object() {
        answer["builds"]["far"] = answer["builds"]["linux"].clone();
        answer["builds"]["far"]["systems"] = json!(["linux-riscv64"]);
    }
    answer
}

#[test]
fn every_command_takes_documents_from_the_future() {
    let env = TestEnv::new();
    let line = rewriting_line_to(&env.running().origin(), from_the_future);
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    env.write("lantern.toml", &text.replace(&env.running().origin(), &line));
    let commands: &[&[&str]] = &[
        &["connect", "brambleyard", "--client", "paper-heron"],
        &["prepare"],
        &["push", "brambleyard", "--yes"],
        &["promote", "brambleyard", "open-water", "--target", "linux", "--confirm", "1.3.2 (1)"],
        &["live"],
        &["releases"],
        &["releases", "1"],
        &["history"],
        &["history", "--all"],
        &["number"],
        &["keep", "--plan"],
        &["install", "brambleyard", "open-water", "player"],
        &["verify", "player"],
        &["check"],
        &["depots"],
        &["verify"],
        &["ledger", "backup"],
        &[],
    ];
    for command in commands {
        env.lantern(command).success();
        if command.first() != Some(&"connect") {
            env.lantern(&[*command, &["--json"]].concat()).success().json();
        }
    }
    // Nobody here knows who follows such a branch: it may be everybody.
    env.lantern(&["promote", "brambleyard", "guild", "--target", "linux", "--yes"]).fails(7);

    // Events of a newer lantern, of another computer.
    let line = |sequence: u64, predecessor: Option<String>, kind: &str, version: u32, payload: Value| {
        let mut event = json!({
            "id": format!("01a207a2-3280-7000-8000-{sequence:012}"), "device": "0123456789ab", "sequence": sequence,
            "predecessor": predecessor, "actor": "fern", "recorded_at": "2031-01-01T00:00:00Z", "happened_at": null,
            "revision": null, "edition": "full", "kind": kind, "version": version, "payload": payload
        })
        .to_string();
        event = event.replace("\\u0000", "");
        event
    };
    let storefront = json!({ "id": "brambleyard-9", "name": "brambleyard", "handle": "saltmarsh-post" });
    let release = lantern_core::digest::ReleaseId::of(b"a newer one").to_string();
    let asked = json!({
        "key": "01a207a2-3280-7000-8000-000000000009", "storefront": storefront, "action": { "share": { "percent": 25 } },
        "release": release, "version": "1.3.2", "number": 1, "until": "2031-02-01"
    });
    let bodies =
        [("share-raised", 1, json!({ "percent": 50 })), ("asked", 1, asked), ("sealed", 7, json!({ "moon": "full" }))];
    let mut text = "{\"format\":\"lantern.ledger-export/1\"}\n".to_owned();
    let mut predecessor = None;
    for (sequence, (kind, version, payload)) in (1..).zip(bodies) {
        let event = line(sequence, predecessor.take(), kind, version, payload);
        predecessor = Some(lantern_core::digest::Digest::of(event.as_bytes()).to_string());
        text += &format!("{event}\n");
    }
    env.write("newer.jsonl", &text);
    env.lantern(&["ledger", "import", "newer.jsonl"]).success();
    for command in commands {
        env.lantern(command).success();
    }
    let history = env.lantern(&["history", "--all", "--count", "100"]).success().stdout();
    assert!(history.contains("share-raised (written by a newer lantern)"), "{history}");
    assert!(history.contains("(by a newer lantern)"), "{history}");
}

#[test]
fn a_rule_that_must_be_understood_closes_the_gate() {
    let mut env = TestEnv::without_storefront();
    let mut document = StandInDocument::brambleyard();
    document.more_rules.insert("moon".into(), json!("full"));
    env.open_stand_in(document.clone(), 0);
    env.make_title();
    env.write("lantern.toml", &env.config("1.3.2"));
    env.connect();
    env.lantern(&["prepare"]).success();
    assert!(env.lantern(&["push", "brambleyard", "--yes"]).fails(3).stderr().contains("the house rule moon"));
    let port = env.close_storefront();
    document.rules.must_understand = Some(Vec::new());
    env.open_stand_in(document, port);
    env.lantern(&["push", "brambleyard", "--yes"]).success();
}
