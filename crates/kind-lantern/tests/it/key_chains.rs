//! What a signed file says, keys that follow others, pins, and what keeps a passphrase.

use crate::keys::{PASSPHRASE, Phone};

#[test]
fn a_signed_file_is_verified_against_its_signature_and_the_pin() {
    let phone = Phone::with_key();
    phone.run(&["prepare"]).success();
    phone.run(&["releases", "write", "1.3.2", "out"]).success();
    let verify = |file: &str| phone.run(&["verify", file]);
    let well = verify("out/saltmarsh.apk").success().stdout();
    for part in
        ["intact: ", "signature schemes   2, 3", "signed by           Paper Heron", "lantern.toml pins (on-device)"]
    {
        assert!(well.contains(part), "{part}: {well}");
    }
    let document = phone.run(&["verify", "out/saltmarsh.apk", "--json"]).success().json();
    assert_eq!((&document["intact"], &document["pinned"]), (&true.into(), &true.into()));
    // Nobody signed the export.
    let none = verify("exports/saltmarsh.apk").fails(3);
    assert!(
        none.stderr().contains("has no signature: whether it is as its makers left it cannot be said"),
        "{}",
        none.whole()
    );
    phone.run(&["verify", "lantern.toml"]).fails(3);
    // One changed byte, deep inside.
    let mut bytes = phone.0.read("out/saltmarsh.apk");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(phone.0.path("changed.apk"), &bytes).unwrap();
    let changed = verify("changed.apk").fails(5);
    assert!(changed.stderr().contains("the signature of changed.apk does not hold"), "{}", changed.whole());
    assert!(
        !changed.stdout().contains("Paper Heron"),
        "nobody is named whose signature does not hold: {}",
        changed.whole()
    );
    assert_eq!(phone.run(&["verify", "changed.apk", "--json"]).fails(5).json()["intact"], false);
    // Signed by someone else.
    phone.run(&["key", "new", "second", "--kind", "p-256"]).success();
    let text = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    let at = text.find("[pins").unwrap();
    phone.0.write(
        "lantern.toml",
        &text[..at].replace("sign = \"saltmarsh-mobile\"", "stamp = true\nsign = \"second\"").replace("1.3.2", "1.3.3"),
    );
    phone.run(&["prepare"]).success();
    let other = verify("out/saltmarsh.apk").fails(3);
    assert!(other.stderr().contains("not with the key that lantern.toml pins (on-device"), "{}", other.whole());
}

/// Another key follows the pinned one, with the proof of it; without, it is refused.
#[test]
fn a_key_follows_another_one() {
    let phone = Phone::with_key();
    phone.0.edit("lantern.toml", "sign =", "stamp = true\nsign =");
    phone.run(&["prepare"]).success();
    phone.run(&["key", "new", "second", "--kind", "rsa-3072"]).success();
    phone.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"second\"");
    phone.0.edit("lantern.toml", "\"1.3.2\"", "\"1.3.3\"");
    assert!(phone.run(&["check"]).fails(1).stdout().contains("other-key"));
    let rotated = phone.run(&["key", "rotate", "saltmarsh-mobile", "second", "keys.lineage"]).success().stdout();
    assert!(
        rotated.contains("the key second follows saltmarsh-mobile: a chain of 2 keys in keys.lineage"),
        "{rotated}"
    );
    assert!(rotated.contains("lineage = \"keys.lineage\""), "{rotated}");
    phone.run(&["key", "rotate", "saltmarsh-mobile", "second", "keys.lineage"]).fails(2);
    phone.run(&["key", "rotate", "second", "second", "other.lineage"]).fails(2);
    phone.0.edit("lantern.toml", "sign = \"second\"", "sign = \"second\"\nlineage = \"keys.lineage\"");
    let checked = phone.run(&["check"]).success().stdout();
    assert!(!checked.contains("other-key"), "{checked}");
    let sealed = phone.run(&["prepare"]).success().stdout();
    assert!(sealed.contains("is now pinned to the key second"), "{sealed}");
    let verified = phone.inspected("1.3.3")["things"][0].clone();
    let fact = |about: &str| {
        let facts = verified["facts"].as_array().unwrap().iter();
        facts.filter(|fact| fact["about"] == about).map(|fact| fact["says"].as_str().unwrap().to_owned()).next()
    };
    let sha256 = |key: &str| phone.run(&["key", "show", key, "--json"]).json()["sha256"].as_str().unwrap().to_owned();
    assert_eq!(fact("signature schemes").as_deref(), Some("2, 3, 3.1"));
    assert_eq!(fact("fingerprint"), Some(sha256("second")));
    assert_eq!(fact("previous key"), Some(sha256("saltmarsh-mobile")));
    let text = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    assert_eq!(text.matches("on-device").count(), 1, "the pin took the place of the first: {text}");
    assert!(text.contains(&sha256("second")));
    assert!(phone.run(&["verify", "out/saltmarsh.apk"]).success().stdout().contains("lantern.toml pins"));
    assert!(phone.run(&["prepare"]).success().stdout().contains("nothing changed"));
    // For all systems that know of other keys.
    phone.0.edit("lantern.toml", "lineage = ", "lineage-from = 28\nlineage = ");
    phone.run(&["prepare"]).success();
    assert!(phone.inspected("1.3.3").to_string().contains("\"2, 3\""));
    // The first key goes on signing for older systems, and has to be there.
    std::fs::remove_file(phone.0.path("home/keys/saltmarsh-mobile.p12")).unwrap();
    let gone = phone.run(&["check"]).fails(1).stdout();
    assert!(gone.contains("the first key of the chain is not in the keyring"), "{gone}");
    // A file that is no chain, and one that is missing.
    phone.0.write("keys.lineage", "tide");
    assert!(
        phone.run(&["check"]).fails(1).stdout().contains("keys.lineage: the file with the chain of keys is damaged")
    );
    std::fs::remove_file(phone.0.path("keys.lineage")).unwrap();
    assert!(phone.run(&["check"]).fails(1).stdout().contains("keys.lineage cannot be read"));
}

#[test]
fn a_key_is_pinned_before_anything_is_signed() {
    let phone = Phone::with_key();
    let done = phone.run(&["key", "pin", "saltmarsh-mobile"]).success().stdout();
    assert!(done.contains("is now pinned to the key saltmarsh-mobile (on-device)"), "{done}");
    phone.run(&["key", "pin", "saltmarsh-mobile", "--role", "at-storefront"]).success();
    let text = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    assert!(text.contains("on-device = ") && text.contains("at-storefront = "), "{text}");
    phone.run(&["key", "pin", "saltmarsh-mobile"]).success();
    assert_eq!(phone.0.read("lantern.toml"), text.as_bytes(), "it is there once");
    phone.run(&["key", "new", "second", "--kind", "p-256"]).success();
    let other = phone.run(&["key", "pin", "second"]).fails(1);
    assert!(other.stderr().contains("devices know example.paperheron.saltmarsh by another key"), "{}", other.whole());
    phone.run(&["key", "pin", "third"]).fails(2);
    phone.run(&["key", "pin", "second", "--role", "everywhere"]).fails(2);
}

#[test]
fn a_program_keeps_the_passphrase() {
    let phone = Phone::with_key();
    phone.0.write(
        "keeps.sh",
        &format!("echo asked >> {}\necho '{PASSPHRASE}'\necho more\n", phone.0.path("log").display()),
    );
    let keeps = phone.0.path("keeps.sh").to_str().unwrap().to_owned();
    let remember = |program: &[&str]| {
        phone.without_passphrase(&[&["key", "remember", "saltmarsh-mobile", "--"], program].concat())
    };
    let done = remember(&["sh", &keeps]).success().stdout();
    assert!(done.contains("the passphrase of the key saltmarsh-mobile comes from sh"), "{done}");
    let config = String::from_utf8(phone.0.read("lantern.toml")).unwrap();
    phone.0.write("lantern.toml", &format!("{config}\n[sealing]\nstatement = \"saltmarsh-mobile\"\n"));
    let sealed = phone.without_passphrase(&["prepare"]).success().stdout();
    assert!(sealed.contains("phone with the key saltmarsh-mobile") && sealed.contains("statement "), "{sealed}");
    assert_eq!(phone.0.read("log"), b"asked\nasked\n", "once when it was noted, once for both signatures");
    phone.0.write("lantern.toml", &config);
    assert!(phone.run(&["key", "show", "saltmarsh-mobile"]).success().stdout().contains("from sh "));
    // What does not open the key is not noted, and what goes wrong is said.
    for (program, part) in [
        (&["echo", "another one"][..], "the passphrase is not the right one"),
        (&["sh", "-c", "exit 3"], "it ended with exit status: 3"),
        (&["true"], "it printed nothing"),
        (&["/nowhere/keeps"], "it cannot be started"),
    ] {
        let refused = remember(program).fails(3);
        assert!(refused.stderr().contains(part) && refused.stderr().contains("fix: "), "{part}: {}", refused.whole());
    }
    std::fs::remove_file(&keeps).unwrap();
    phone.0.edit("lantern.toml", "\"1.3.2\"", "\"1.3.3\"");
    phone.0.edit("lantern.toml", "sign =", "stamp = true\nsign =");
    let gone = phone.without_passphrase(&["prepare"]).fails(3).stderr();
    assert!(gone.contains("sh did not give the passphrase of the key saltmarsh-mobile"), "{gone}");
    phone.without_passphrase(&["key", "remember", "saltmarsh-mobile"]).success();
    assert!(
        phone
            .without_passphrase(&["prepare"])
            .fails(3)
            .stderr()
            .contains("the passphrase of the key saltmarsh-mobile is missing")
    );
}

#[test]
fn a_certificate_that_ends_too_early_for_some_storefronts() {
    let phone = Phone::new();
    phone.run(&["key", "new", "saltmarsh-mobile", "--kind", "p-256", "--years", "3"]).success();
    let said = phone.run(&["check"]).success().stdout();
    assert!(said.contains("some storefronts take none for Android that ends before 2033-10-23"), "{said}");
}

/// What the engine signed with the newer key alone lacks the chain, and devices that know the first would refuse it.
#[test]
fn what_came_signed_without_the_chain_is_signed_with_it() {
    let phone = Phone::with_key();
    phone.run(&["key", "new", "second", "--kind", "p-256"]).success();
    phone.run(&["key", "rotate", "saltmarsh-mobile", "second", "keys.lineage"]).success();
    let engine = Phone::new();
    engine.0.pass_hours(24);
    crate::env::copy(&phone.0.path("home/keys"), &engine.0.path("home/keys"));
    engine.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", "sign = \"second\"");
    engine.run(&["prepare"]).success();
    engine.run(&["releases", "write", "1.3.2", "out"]).success();
    std::fs::copy(engine.0.path("out/saltmarsh.apk"), phone.0.path("exports/saltmarsh.apk")).unwrap();
    let lineage = "sign = \"second\"\nlineage = \"keys.lineage\"";
    phone.0.edit("lantern.toml", "sign = \"saltmarsh-mobile\"", lineage);
    phone.run(&["prepare"]).success();
    assert!(phone.inspected("1.3.2").to_string().contains("\"2, 3, 3.1\""));
}
