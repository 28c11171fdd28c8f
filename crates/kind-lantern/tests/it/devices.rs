//! A build that is tried on an attached device, with a script that plays the platform's own device program.

use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::TestEnv;

const PHONE: &str = r#"
[targets.phone]
export = "exports/saltmarsh.apk"

[storefronts.old-pier]
kind = "by-hand"
targets = ["phone"]

[storefronts.old-pier.branches]
public = { audience = "everyone", needs = ["trial"], trial-of = ["phone"] }

[checks]
accept = [
    { code = "no-icon", because = "the example game has none" },
    { code = "unaligned-library", because = "no device starts the example" },
]
"#;

/// Puts a package into the folder that plays the device, and starts it: says what it was called with.
const PUT_ON: &str = "test -e attached || { echo 'no device is attached' >&2; exit 4; }\nmkdir -p device && cp \"$1\" device/ && echo \"started $2 $3\"\n";

fn env() -> TestEnv {
    let mut env = TestEnv::without_storefront();
    env.open_storefront(0);
    exports::write_android(&env.path("exports/saltmarsh.apk"), GameVersion::Old, false).unwrap();
    let config = env.config("1.3.2");
    let game = config.split("[storefronts.brambleyard]").next().unwrap();
    env.write("lantern.toml", &format!("{game}{PHONE}"));
    env.write("put-on.sh", PUT_ON);
    env.lantern(&["number", "--next", "25"]).success();
    env.lantern(&["prepare"]).success();
    env
}

fn with_device(env: &TestEnv) {
    let text = std::fs::read_to_string(env.path("lantern.toml")).unwrap();
    let run = "run = [\"sh\", \"put-on.sh\", \"{file}\", \"{game.identity}\", \"{release.version}\"]";
    env.write("lantern.toml", &format!("{text}\n[devices.pocket]\nsystems = [\"android\"]\n{run}\n"));
}

#[test]
fn a_package_is_put_on_a_device_and_the_yes_counts() {
    let env = env();
    let none = env.lantern(&["try", "--device"]).fails(2).stderr();
    assert!(none.contains("lantern.toml has no device") && none.contains("--by-hand"), "{none}");
    with_device(&env);
    // Without a device nothing is recorded: that is no word about the game.
    let gone = env.lantern(&["try", "--device", "--yes"]).fails(6).stderr();
    assert!(gone.contains("ended with exit code 4; nothing is recorded"), "{gone}");
    assert!(!env.lantern(&["history"]).success().stdout().contains("tried"));
    env.write("attached", "");
    let tried = env.lantern(&["try", "--device", "pocket", "--yes"]).success().stdout();
    assert!(tried.contains("started example.paperheron.saltmarsh 1.3.2"), "{tried}");
    assert_eq!(
        std::fs::read(env.path("device/saltmarsh.apk")).unwrap(),
        std::fs::read(env.path("exports/saltmarsh.apk")).unwrap()
    );
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "upload"]).success();
    env.lantern(&["promote", "old-pier", "public", "--confirm", "1.3.2 (25)"]).success();
    env.lantern(&["try", "--device", "moon"]).fails(2);
    // Which of two is meant has to be said.
    let text = std::fs::read_to_string(env.path("lantern.toml")).unwrap();
    env.write("lantern.toml", &format!("{text}\n[devices.other]\nsystems = [\"android\"]\nrun = [\"sh\"]\n"));
    let which = env.lantern(&["try", "--device"]).fails(2).stderr();
    assert!(which.contains("one of other, pocket"), "{which}");
}

#[test]
fn by_hand_only_the_answer_is_recorded() {
    let env = env();
    env.lantern(&["push", "old-pier", "--yes"]).success();
    env.lantern(&["confirm", "old-pier", "upload"]).success();
    let promote = ["promote", "old-pier", "public", "--confirm", "1.3.2 (25)"];
    let lacks = env.lantern(&promote).fails(1).stderr();
    assert!(lacks.contains("nobody tried phone yet"), "{lacks}");
    env.lantern(&["try", "--by-hand"]).fails(2);
    env.lantern(&["try", "--by-hand", "--target", "phone", "--yes"]).success();
    env.lantern(&promote).success();
}

#[test]
fn what_is_wrong_with_a_device_is_found_in_the_configuration() {
    let env = env();
    let text = std::fs::read_to_string(env.path("lantern.toml")).unwrap();
    for (device, expected) in [
        ("systems = [\"android\"]\nrun = []", "a program is missing here"),
        ("systems = [\"andriod\"]\nrun = [\"sh\"]", "did you mean \"android\"?"),
        ("systems = [\"android\"]\nrun = [\"sh\", \"{flie}\"]", "did you mean {file}?"),
        ("systems = [\"android\"]", "has no \"run\""),
    ] {
        env.write("lantern.toml", &format!("{text}\n[devices.pocket]\n{device}\n"));
        let said = env.lantern(&["live", "--offline"]).fails(2).stderr();
        assert!(said.contains(expected), "{said}");
    }
}
