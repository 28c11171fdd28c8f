//! Every command, cut at every point at which it could be cut: the same command again comes to the same end.

use std::collections::BTreeMap;

use serde_json::Value;

use crate::env::{Ran, TestEnv, copy, files};

/// The exit code with which a build for tests ends at the point that it was told.
const STOPPED: i32 = 86;
/// What is said when the storefront has done it and this computer could not write it down.
const DONE_THERE: &str = "brambleyard has done it, and it could not be recorded here";
/// More points than any command has.
const MANY: u64 = 2_000;

/// An environment that can be put back to where it was.
pub struct Scene {
    pub env: TestEnv,
    base: tempfile::TempDir,
    port: u16,
}

impl Scene {
    /// A small game, and what `before` does with it.
    pub fn new(before: impl FnOnce(&TestEnv)) -> Self {
        let mut env = TestEnv::without_storefront();
        for folder in ["textures", "music", "hints"] {
            std::fs::remove_dir_all(env.path("exports/linux").join(folder)).unwrap();
        }
        env.write("exports/linux/saltmarsh.dat", &"ebb and flood ".repeat(3000));
        env.open_storefront(0);
        env.make_title();
        env.write("lantern.toml", &env.config("1.3.2"));
        env.connect();
        before(&env);
        let port = env.close_storefront();
        let base = tempfile::tempdir().unwrap();
        copy(&env.path("."), base.path());
        env.open_storefront(port);
        Self { env, base, port }
    }

    pub fn put_back(&mut self) {
        self.env.close_storefront();
        let root = self.env.path(".");
        for entry in std::fs::read_dir(&root).unwrap().map(Result::unwrap) {
            match entry.file_type().unwrap().is_dir() {
                true => std::fs::remove_dir_all(entry.path()).unwrap(),
                false => std::fs::remove_file(entry.path()).unwrap(),
            }
        }
        copy(self.base.path(), &root);
        self.env.open_storefront(self.port);
    }

    fn run(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Ran {
        let mut command = self.env.command(arguments);
        command.envs(variables.iter().copied());
        Ran { output: command.output().unwrap() }
    }

    /// Everything that matters afterwards: what the storefront has, what was recorded, what is stored and installed.
    pub fn state(&self) -> BTreeMap<String, Value> {
        let json = |arguments: &[&str]| self.env.lantern(&[arguments, &["--json"]].concat()).success().json();
        let mut state = BTreeMap::new();
        let live = json(&["live"]);
        for branch in live["storefronts"][0]["branches"].as_array().unwrap() {
            for (target, live) in branch["targets"].as_object().unwrap() {
                let what = serde_json::json!([branch["revision"], live["build"], live["number"], live["release"]]);
                state.insert(format!("{} has {target}", branch["branch"]), what);
            }
        }
        for release in json(&["releases"])["releases"].as_array().unwrap() {
            let mut release = release.clone();
            release["sealed_at"] = Value::Null;
            state.insert(format!("release {}", release["number"]), release);
        }
        // Asking may be recorded twice, what came of it may not.
        let kinds = self.env.event_kinds();
        for kind in ["sealed", "pushed", "moved", "withdrawn", "freed", "number-seen"] {
            let count = kinds.iter().filter(|k| *k == kind).count();
            state.insert(format!("events {kind}"), count.into());
        }
        let folders = [".lantern/store", "player", "place/titles"];
        for folder in folders.into_iter().filter(|folder| self.env.path(folder).is_dir()) {
            let found = files(&self.env.path(folder));
            let lasting =
                found.iter().filter(|(name, _)| !name.contains(".part-") && !name.contains(".lantern-install/"));
            for (name, bytes) in lasting {
                state.insert(format!("{folder}/{name}"), bytes.len().into());
            }
        }
        self.env.lantern(&["verify"]).success();
        state
    }

    /// The state before and after a command that nothing disturbs.
    fn undisturbed(&mut self, arguments: &[&str]) -> BTreeMap<String, Value> {
        self.put_back();
        let before = self.state();
        self.run(arguments, &[]).success();
        let expected = self.state();
        assert_ne!(before, expected, "the command does nothing");
        expected
    }

    /// Everything that a command may meet: cuts at every point, and a disk that fails at every write. Returns what it
    /// said of the disk.
    fn at_every_point(&mut self, arguments: &[&str]) -> String {
        let expected = self.undisturbed(arguments);
        self.cut_at_every_point(arguments, &expected);
        ["full", "read-only"].map(|how| self.refused_at_every_write(arguments, how, &expected)).concat()
    }

    /// Lets the disk fail at every write; the command says so or does without, and when the disk works again the same
    /// command comes to the end that it has on a good disk.
    fn refused_at_every_write(&mut self, arguments: &[&str], how: &str, expected: &BTreeMap<String, Value>) -> String {
        let mut all = String::new();
        for number in 1..MANY {
            self.put_back();
            let ran = self.run(arguments, &[("LANTERN_FAIL_AT", &number.to_string()), ("LANTERN_FAIL_AS", how)]);
            if !ran.stderr().contains("(the disk fails from here on)") {
                assert!(number > 2, "only {number} writes");
                return all;
            }
            let said = ran.whole();
            match ran.code() {
                // Whatever could not be written there was only to save time.
                0 => assert_eq!(self.state(), *expected, "{how} from write {number} on: {said}"),
                6 => assert!(said.contains("try:"), "{how} from write {number} on: {said}"),
                _ => panic!("{how} from write {number} on: {said}"),
            }
            let again = self.run(arguments, &[]);
            assert_eq!(again.code(), 0, "{how} from write {number} on: {}", again.whole());
            assert_eq!(self.state(), *expected, "{how} from write {number} on");
            all += &said;
        }
        panic!("more than {MANY} writes");
    }

    /// Cuts a command at every point; each time the same command again must come to the end that it has without a cut.
    fn cut_at_every_point(&mut self, arguments: &[&str], expected: &BTreeMap<String, Value>) {
        let mut points = 0;
        for number in 1..MANY {
            self.put_back();
            let stopped = self.run(arguments, &[("LANTERN_STOP_AT", &number.to_string())]);
            if stopped.code() != STOPPED {
                stopped.success();
                assert_eq!(self.state(), *expected, "without a stop, at {number}");
                break;
            }
            points = number;
            let again = self.run(arguments, &[]);
            assert_eq!(again.code(), 0, "after a stop at point {number}: {}", again.whole());
            assert_eq!(self.state(), *expected, "after a stop at point {number}");
        }
        assert!(points >= 4, "only {points} points");
    }
}

fn release(env: &TestEnv) {
    env.release("1.3.2 (1)");
}

pub fn next_release(env: &TestEnv) {
    release(env);
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    env.write("lantern.toml", &env.config("1.4.0"));
}

#[test]
fn prepare() {
    Scene::new(next_release).at_every_point(&["prepare"]);
}

#[test]
fn push() {
    let mut scene = Scene::new(|env| {
        next_release(env);
        env.lantern(&["prepare"]).success();
    });
    let said = scene.at_every_point(&["push", "brambleyard", "--yes"]);
    assert!(said.contains(DONE_THERE), "{said}");
}

#[test]
fn promote() {
    let mut scene = Scene::new(|env| {
        next_release(env);
        env.lantern(&["prepare"]).success();
        env.lantern(&["push", "brambleyard", "--yes"]).success();
    });
    let said = scene.at_every_point(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]);
    assert!(said.contains(DONE_THERE), "{said}");
}

#[test]
fn rollback() {
    let mut scene = Scene::new(|env| {
        next_release(env);
        env.release("1.4.0 (2)");
    });
    scene.at_every_point(&["rollback", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]);
}

#[test]
fn withdraw() {
    Scene::new(release).at_every_point(&["releases", "withdraw", "1", "--because", "a save bug", "--yes"]);
}

#[test]
fn keep() {
    let mut scene = Scene::new(|env| {
        next_release(env);
        env.lantern(&["prepare"]).success();
        env.write("exports/linux/letters/en.txt", "Dear Wren, come before the ebb.");
        env.lantern(&["prepare", "--version", "1.4.1"]).success();
    });
    scene.at_every_point(&["keep", "--last", "1", "--yes"]);
}

#[test]
fn install() {
    let mut scene = Scene::new(|env| {
        release(env);
        env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
        env.write("player/save.txt", "my own");
        env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
        env.write("exports/linux/letters/fr/nouvelle.txt", "Cher Aldous");
        std::fs::remove_dir_all(env.path("exports/linux/notes")).unwrap();
        env.write("lantern.toml", &env.config("1.4.0").replace("leave-out = [\"notes/**\"]\n", ""));
        env.release("1.4.0 (2)");
    });
    let said = scene.at_every_point(&["install", "brambleyard", "open-water", "player", "--target", "linux"]);
    assert!(said.contains("do not play yet"), "{said}");
}
