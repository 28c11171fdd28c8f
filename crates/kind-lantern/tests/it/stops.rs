//! Every command, cut at every point at which it could be cut: the same command again comes to the same end.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use lantern_core::config::Audience;
use lantern_core::digest::Digest;
use lantern_core::names::Name;
use lantern_core::pins::Role;
use lantern_core::progress::Silent;
use lantern_project::{Project, ReleaseSummary};

use lantern_rehearsal::stand_in::StandInDocument;
use lantern_store::store::Store;
use serde_json::Value;

use crate::env::{Ran, TestEnv, copy, files, folder, one_line, paths, paths_without, rounds};

/// The exit code with which a build for tests ends at the point that it was given.
pub const STOPPED: i32 = 86;
/// What is said when the storefront has done it and this computer could not write it down.
const DONE_THERE: &str = "brambleyard did it, but it could not be recorded here";
/// More points than any command has.
const MANY: u64 = 2_000;

/// An environment that can be put back to where it was.
pub struct Scene {
    pub env: TestEnv,
    base: tempfile::TempDir,
    port: u16,
    document: StandInDocument,
    /// Whether something is damaged, which the command is to make good.
    is_damaged: bool,
    /// When it begins.
    minute: u32,
    /// What commands that did not come to their end left, as digests.
    left: HashSet<Digest>,
}

impl Scene {
    /// A small game, and what `before` does with it.
    pub fn new(before: impl FnOnce(&TestEnv)) -> Self {
        Self::at(one_line(), before)
    }

    fn at(document: StandInDocument, before: impl FnOnce(&TestEnv)) -> Self {
        let mut env = TestEnv::without_storefront();
        for folder in ["textures", "music", "hints"] {
            std::fs::remove_dir_all(env.path("exports/linux").join(folder)).unwrap();
        }
        env.write("exports/linux/saltmarsh.dat", &"ebb and flood ".repeat(3000));
        env.open_stand_in(document.clone(), 0);
        env.make_title();
        env.write("lantern.toml", &env.config("1.3.2"));
        env.connect();
        before(&env);
        let port = env.close_storefront();
        let base = folder();
        copy(&env.path("."), base.path());
        env.open_stand_in(document.clone(), port);
        let minute = env.minute();
        Self { minute, env, base, port, document, is_damaged: false, left: HashSet::new() }
    }

    /// As [`Scene::new`], and then something is damaged.
    fn damaged(before: impl FnOnce(&TestEnv)) -> Self {
        Self { is_damaged: true, ..Self::new(before) }
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
        self.env.set_minute(self.minute);
        self.env.open_stand_in(self.document.clone(), self.port);
    }

    pub fn run(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Ran {
        let mut command = self.env.command(arguments);
        command.envs(variables.iter().copied());
        Ran { output: command.output().unwrap() }
    }

    /// Everything that matters afterwards: what the storefront has, what was recorded, what is stored and installed. It is asked
    /// of the use cases, in this process: asking the program would take most of the time of these tests.
    pub fn state(&self) -> BTreeMap<String, Value> {
        let mut project = Project::find(&self.env.path("."), Arc::default()).unwrap();
        project.keep_access_in(self.env.path("home"));
        let asked = project.open().unwrap().ask_all().unwrap();
        assert_eq!(asked.not_asked, None);
        let open = asked.workspace;
        let mut state = BTreeMap::new();
        for at in &open.live(&Name::full_edition()).unwrap() {
            for branch in &at.branches {
                for (target, live) in &branch.targets {
                    let (build, id) = (&live.build, live.build.release.to_string());
                    let what = serde_json::json!([branch.revision, build.number_there, build.name, id]);
                    state.insert(format!("{} at {} has {target}", branch.branch, at.storefront), what);
                }
            }
        }
        for open in open.walks(None).unwrap() {
            let begun = &open.walk.begun;
            let said: Vec<String> = open.walk.said.keys().map(ToString::to_string).collect();
            let what = serde_json::json!([begun.storefront.name, begun.name, begun.hand_over, said]);
            state.insert(format!("begun {:?}", begun.action), what);
        }
        for release in open.summaries().unwrap() {
            let release = ReleaseSummary { sealed_at: jiff::Timestamp::UNIX_EPOCH, ..release };
            state.insert(format!("release {}", release.name), format!("{release:?}").into());
        }
        let next = open.next_number().unwrap().next.to_string();
        state.insert("next number".to_owned(), next.into());
        // Asking may be recorded twice, what came of it may not.
        let events = open.events().unwrap();
        let kinds = || events.iter().map(|event| event.body.kind());
        for kind in ["sealed", "pushed", "moved", "withdrawn", "freed", "steps-begun", "step-said", "adopted", "looked"]
        {
            let count = kinds().filter(|k| *k == kind).count();
            state.insert(format!("events {kind}"), count.into());
        }
        if kinds().any(|kind| kind == "invited") {
            let found = open.invitations("brambleyard", &"open-water".parse().unwrap()).unwrap();
            let ended = found.invitations.iter().filter(|made| made.ended_at.is_some()).count();
            state.insert("ended invitations".to_owned(), ended.into());
        }
        assert_eq!(open.verify_store(&Silent).unwrap().wrong, Vec::<String>::new());
        let project = &open.project;
        let pin = project.config().pins.get(project.identity(&Name::full_edition()), Role::OnDevice);
        state.insert("pinned".to_owned(), pin.map(|pin| pin.to_string()).into());
        drop(open);
        let folders = [
            ".lantern/store",
            ".lantern/outgoing",
            ".lantern/statements",
            "player",
            "storefront/titles",
            "home/access",
        ];
        for folder in folders.into_iter().filter(|folder| self.env.path(folder).is_dir()) {
            let lasting = |name: &String| !name.contains(".part-") && !name.contains(".lantern-install/");
            for (name, path) in paths(&self.env.path(folder)).into_iter().filter(|(name, _)| lasting(name)) {
                state.insert(format!("{folder}/{name}"), std::fs::metadata(path).unwrap().len().into());
            }
        }
        state
    }

    /// Whether what a command left is not what it left before: the very same files need not be gone on with twice. What steers no
    /// command is not looked at: logs, which process had the lock, what SQLite has in memory.
    fn is_new(&mut self, arguments: &[&str]) -> bool {
        let mut left = arguments.join(" ").into_bytes();
        for (name, path) in paths_without(&self.env.path("."), &["logs", "lock"]) {
            if !name.ends_with("-shm") {
                left.extend(name.into_bytes());
                left.extend(Digest::of(&std::fs::read(path).unwrap()).as_bytes());
            }
        }
        self.left.insert(Digest::of(&left))
    }

    /// The state before and after a command that nothing disturbs.
    pub fn undisturbed(&mut self, arguments: &[&str]) -> BTreeMap<String, Value> {
        self.put_back();
        let before = (!self.is_damaged).then(|| self.state());
        self.run(arguments, &[]).success();
        let expected = self.state();
        assert_ne!(before.as_ref(), Some(&expected), "the command does nothing");
        expected
    }

    /// Everything that a command may meet: cuts at every point, once and twice, and a disk that fails at every write, from
    /// there on or this once. Returns what it said of the disk.
    fn at_every_point(&mut self, arguments: &[&str]) -> String {
        let expected = self.undisturbed(arguments);
        let points = self.cut_at_every_point(arguments, &expected);
        self.cut_twice(arguments, points, &expected);
        // A disk that stays full and one that stays read-only are refused in the same way: every run tries them in turns.
        let every_run: [&[&str]; 2] = [&["full", "read-only"], &["once"]];
        let all: [&[&str]; 3] = [&["full"], &["read-only"], &["once"]];
        let ways = if rounds(1) == 1 { &every_run[..] } else { &all };
        ways.iter().map(|hows| self.refused_at_every_write(arguments, hows, &expected)).collect()
    }

    /// What was cut has lost nothing: every release that is kept can be read to the last byte.
    fn is_whole(&self, after: &str) {
        if self.is_damaged {
            return;
        }
        let project = Project::find(&self.env.path("."), Arc::default()).unwrap();
        let verified = project.open().unwrap().verify_store(&Silent).unwrap();
        assert_eq!(verified.wrong, Vec::<String>::new(), "{after}");
    }

    /// Lets the disk fail at every write; the command says so or does without, and when the disk works again the same
    /// command comes to the end that it has on a good disk. `hows` are the ways it fails, one after the other.
    fn refused_at_every_write(
        &mut self,
        arguments: &[&str],
        hows: &[&str],
        expected: &BTreeMap<String, Value>,
    ) -> String {
        let mut all = String::new();
        for (number, how) in (1..MANY).zip(hows.iter().cycle()) {
            self.put_back();
            let ran = self.run(arguments, &[("LANTERN_FAIL_AT", &number.to_string()), ("LANTERN_FAIL_AS", how)]);
            if !ran.stderr().contains("(the disk fails here)") {
                assert!(number > 2, "only {number} writes");
                return all;
            }
            let said = ran.whole();
            let is_new = self.is_new(arguments);
            match ran.code() {
                // Whatever could not be written there was only to save time.
                0 => assert_eq!(self.state(), *expected, "{how} from write {number} on: {said}"),
                6 => assert!(said.contains("fix:"), "{how} from write {number} on: {said}"),
                _ => panic!("{how} from write {number} on: {said}"),
            }
            if is_new {
                let again = self.run(arguments, &[]);
                assert_eq!(again.code(), 0, "{how} from write {number} on: {}", again.whole());
                assert_eq!(self.state(), *expected, "{how} from write {number} on");
            }
            all += &said;
        }
        panic!("more than {MANY} writes");
    }

    /// Cuts a command at every point; each time the same command again must come to the end that it has without a cut.
    /// Returns how many points there are.
    fn cut_at_every_point(&mut self, arguments: &[&str], expected: &BTreeMap<String, Value>) -> u64 {
        self.cut_at_points(arguments, expected, 1)
    }

    /// As [`Self::cut_at_every_point`], at one point of so many.
    pub fn cut_at_points(&mut self, arguments: &[&str], expected: &BTreeMap<String, Value>, of: usize) -> u64 {
        let mut points = 0;
        for number in (1..MANY).step_by(of) {
            self.put_back();
            let stopped = self.run(arguments, &[("LANTERN_STOP_AT", &number.to_string())]);
            if stopped.code() != STOPPED {
                stopped.success();
                assert_eq!(self.state(), *expected, "without a stop, at {number}");
                break;
            }
            points = number;
            if !self.is_new(arguments) {
                continue;
            }
            self.is_whole(&format!("cut at point {number}"));
            let again = self.run(arguments, &[]);
            assert_eq!(again.code(), 0, "after a stop at point {number}: {}", again.whole());
            assert_eq!(self.state(), *expected, "after a stop at point {number}");
        }
        assert!(points >= 4, "only {points} points");
        points
    }

    /// Cuts a command, and cuts the next run of it, which has to do with what the first one left: for every point of the
    /// first cut, or every other, some of the second.
    pub fn cut_twice(&mut self, arguments: &[&str], points: u64, expected: &BTreeMap<String, Value>) {
        let (mut second_cuts, mut firsts) = (0, 0);
        // Every point was cut at once already: where nobody asks for more, every other one is the first of two.
        let every = if rounds(1) == 1 { 2 } else { 1 };
        for first in (1..=points).step_by(every) {
            firsts += 1;
            for round in 1..=rounds(1) {
                let second = 1 + (first * 5 + round * 7) % points;
                self.put_back();
                for point in [first, second] {
                    let stopped = self.run(arguments, &[("LANTERN_STOP_AT", &point.to_string())]);
                    // What is left to do may have fewer points than the whole.
                    match stopped.code() {
                        STOPPED => second_cuts += u64::from(point == second),
                        _ => assert_eq!(stopped.code(), 0, "cut at {first} and {second}: {}", stopped.whole()),
                    }
                    self.is_whole(&format!("cut at {first} and {second}, at {point}"));
                }
                if !self.is_new(arguments) {
                    continue;
                }
                let again = self.run(arguments, &[]);
                assert_eq!(again.code(), 0, "cut at {first} and {second}: {}", again.whole());
                assert_eq!(self.state(), *expected, "cut at {first} and {second}");
            }
        }
        assert!(second_cuts >= firsts / 4, "only {second_cuts} second cuts");
    }
}

fn release(env: &TestEnv) {
    env.release("1.3.2 (1)");
}

pub fn next_release(env: &TestEnv) {
    // Of which the next release changes a little: it is stored as the difference.
    let song = noise(50);
    env.write("exports/linux/songs/tide.txt", &song);
    release(env);
    env.write("exports/linux/songs/tide.txt", &song.replace("ab", "low"));
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    env.write("lantern.toml", &env.config("1.4.0"));
}

/// A storefront that people do by hand, about which nothing was written.
fn by_hand(env: &TestEnv) {
    release(env);
    let text = env.config("1.3.2") + "\n[storefronts.old-pier]\nkind = \"by-hand\"\n";
    env.write("lantern.toml", &text);
}

#[test]
fn push_by_hand() {
    Scene::new(by_hand).at_every_point(&["push", "old-pier", "--yes"]);
}

#[test]
fn the_last_step_by_hand() {
    let mut scene = Scene::new(|env| {
        by_hand(env);
        env.lantern(&["push", "old-pier", "--yes"]).success();
    });
    scene.at_every_point(&["confirm", "old-pier", "upload", "--read-back", "number-there=7"]);
}

#[test]
fn promote_by_hand() {
    let mut scene = Scene::new(|env| {
        by_hand(env);
        env.lantern(&["push", "old-pier", "--yes"]).success();
        env.lantern(&["confirm", "old-pier", "upload"]).success();
    });
    scene.at_every_point(&["promote", "old-pier", "public", "--confirm", "1.3.2 (1)"]);
}

#[test]
fn rollback_and_withdrawal_by_hand() {
    let live = |env: &TestEnv, release: &str| {
        let confirm = |step: &str| env.lantern(&["confirm", "old-pier", step]).success();
        env.lantern(&["push", "old-pier", "--yes"]).success();
        confirm("upload");
        env.lantern(&["promote", "old-pier", "public", "--confirm", release]).success();
        confirm("put-on");
    };
    let second = |env: &TestEnv| {
        by_hand(env);
        live(env, "1.3.2 (1)");
        let text = env.config("1.4.0") + "\n[storefronts.old-pier]\nkind = \"by-hand\"\n";
        env.write("lantern.toml", &text);
        env.write("exports/linux/saltmarsh.dat", &"ebb and fog ".repeat(3000));
        env.lantern(&["prepare"]).success();
        live(env, "1.4.0 (2)");
    };
    for (setup, arguments) in [
        (&second as &dyn Fn(&TestEnv), &["rollback", "old-pier", "public", "--confirm", "1.3.2 (1)"][..]),
        (
            &|env: &TestEnv| {
                second(env);
                env.lantern(&["rollback", "old-pier", "public", "--confirm", "1.3.2 (1)"]).success();
                env.lantern(&["confirm", "old-pier", "put-back"]).success();
            },
            &["releases", "withdraw", "1.4.0", "--because", "a save bug", "--yes"],
        ),
    ] {
        let mut scene = Scene::new(setup);
        let expected = scene.undisturbed(arguments);
        scene.cut_at_every_point(arguments, &expected);
    }
}

#[test]
fn adopt_with_files() {
    let mut scene = Scene::new(|env| {
        by_hand(env);
        copy(&env.path("exports/linux"), &env.path("old"));
        env.write("old/saltmarsh.dat", &"flood and ebb ".repeat(3000));
    });
    let release = ["--version", "1.2.9", "--number", "24", "--number-there", "9", "--target", "linux=old"];
    scene.at_every_point(&[&["adopt", "old-pier", "public", "--yes"][..], &release].concat());
}

#[test]
fn the_last_look() {
    let mut scene = Scene::new(|env| {
        release(env);
        let questions = "\n[last-look]\nquestions = [\"Is the log off?\", \"Do the saves of 1.2.9 load?\"]\n";
        env.write("lantern.toml", &(env.config("1.3.2") + questions));
    });
    scene.at_every_point(&["last-look", "--answer", "1=yes", "--answer", "2=no"]);
}

/// A connector that remembers what it did for each attempt, as one has to: whatever is cut, it brings a release there once.
#[cfg(unix)]
const REMEMBERS: &str = r#"read -r line
attempt=$(echo "$line" | sed 's/.*"attempt":"\([^"]*\)".*/\1/')
mkdir -p shelf
if [ -e "shelf/$attempt" ]; then echo '{"done": {"number-there": "7"}}'; exit 0; fi
case $line in *'"action":"query"'*) echo '{"not-begun": true}'; exit 0;; esac
echo once > "shelf/$attempt"
echo '{"done": {"number-there": "7"}}'
"#;

#[cfg(unix)]
#[test]
fn push_through_a_connector() {
    let mut scene = Scene::new(|env| {
        release(env);
        let text =
            env.config("1.3.2") + "\n[storefronts.gull-rock]\nkind = \"connector\"\nrun = [\"sh\", \"remembers.sh\"]\n";
        env.write("lantern.toml", &text);
        env.write("remembers.sh", REMEMBERS);
    });
    scene.at_every_point(&["push", "gull-rock", "--yes"]);
    let attempts = std::fs::read_dir(scene.env.path("shelf")).unwrap().count();
    assert_eq!(attempts, 1, "it was brought there more than once");
}

#[test]
fn prepare() {
    Scene::new(next_release).at_every_point(&["prepare"]);
}

/// A disk that fills up while a release is sealed has the room back that was taken for it.
#[test]
fn prepare_on_a_full_disk_leaves_nothing_half_made() {
    let mut scene = Scene::new(next_release);
    let stored = |scene: &Scene| {
        let mut found = files(&scene.env.path(".lantern/store"));
        found.retain(|name, _| !name.starts_with("damaged/"));
        found
    };
    let before = stored(&scene);
    for number in 1..MANY {
        scene.put_back();
        let ran = scene.run(&["prepare"], &[("LANTERN_FAIL_AT", &number.to_string()), ("LANTERN_FAIL_AS", "full")]);
        let has_sealed = scene.env.event_kinds().iter().filter(|kind| *kind == "sealed").count() == 2;
        if ran.code() == 0 || has_sealed {
            assert!(number > 8, "only {number} writes");
            return;
        }
        assert!(ran.stderr().contains("free some disk space"), "{}", ran.stderr());
        // What was sealed may be in the ledger already, for all that the disk says: then it stays.
        let is_named = scene.env.path(".lantern/store/releases").read_dir().unwrap().count() > 1;
        if !is_named {
            assert_eq!(stored(&scene), before, "full from write {number} on");
        }
    }
    panic!("more than {MANY} writes");
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

/// Without a release it is the one before that is meant: anyone who runs it again must not go back once more.
#[test]
fn rollback_to_what_was_before() {
    // A line for testers: a yes is enough there.
    let mut document = one_line();
    document.rules.branches.fixed[0].audience = Audience::Invited;
    let mut scene = Scene::at(document, |env| {
        next_release(env);
        env.release("1.4.0 (2)");
        env.write("lantern.toml", &env.config("1.4.1"));
        env.release("1.4.1 (3)");
    });
    let back = ["rollback", "brambleyard", "open-water", "--yes"];
    let expected = scene.undisturbed(&back);
    let mut refused = 0;
    for number in 1..MANY {
        scene.put_back();
        if scene.run(&back, &[("LANTERN_STOP_AT", &number.to_string())]).code() != STOPPED {
            assert!(number > 4 && refused > 0, "{refused} of {number}");
            return;
        }
        for _ in 0..2 {
            let again = scene.run(&back, &[]);
            match again.code() {
                0 => {}
                3 => {
                    assert!(again.stderr().contains("went back to 1.4.0 (2) only "), "{}", again.stderr());
                    refused += 1;
                }
                _ => panic!("after a stop at point {number}: {}", again.whole()),
            }
            assert_eq!(scene.state(), expected, "after a stop at point {number}");
        }
    }
    panic!("more than {MANY} points");
}

/// There is either no project, or all of it with its number.
#[test]
fn init() {
    let mut scene = Scene::new(|env| {
        std::fs::remove_file(env.path("lantern.toml")).unwrap();
        std::fs::remove_dir_all(env.path(".lantern")).unwrap();
    });
    let init = [
        "init",
        "--name",
        "Saltmarsh Post",
        "--studio",
        "Paper Heron",
        "--identity",
        "example.paperheron.saltmarsh",
        "--version",
        "1.3.2",
        "--next-number",
        "25",
    ];
    let number = |scene: &Scene| scene.env.lantern(&["number", "--json"]).success().json()["next"].clone();
    let is_there = |scene: &Scene| scene.env.path("lantern.toml").is_file();
    for (variable, how) in [("LANTERN_STOP_AT", ""), ("LANTERN_FAIL_AT", "full"), ("LANTERN_FAIL_AT", "once")] {
        let mut points = 0;
        for at in 1..MANY {
            scene.put_back();
            let ran = scene.run(&init, &[(variable, &at.to_string()), ("LANTERN_FAIL_AS", how)]);
            assert_eq!(
                is_there(&scene),
                ran.code() == 0 || (ran.code() == STOPPED && is_there(&scene)),
                "{}",
                ran.whole()
            );
            if !is_there(&scene) {
                scene.run(&init, &[]).success();
            }
            assert_eq!(number(&scene), 25, "{variable} {at} {how}");
            points = at;
            if ran.code() == 0 && !ran.stderr().contains("(the disk fails here)") {
                break;
            }
        }
        assert!(points > 3, "{variable}: only {points} points");
    }
}

#[test]
fn withdraw() {
    Scene::new(release).at_every_point(&["releases", "withdraw", "1", "--because", "a save bug", "--yes"]);
}

/// Text that nothing packs well, different for every number.
fn noise(number: u64) -> String {
    (0..150_u64).map(|n| Digest::of(&(number * 1000 + n).to_le_bytes()).hex()).collect()
}

#[test]
fn keep() {
    let mut scene = Scene::new(|env| {
        next_release(env);
        // Of the release that goes, one part in ten is needed by the one that stays: it is written once more.
        for number in 0..10 {
            env.write(&format!("exports/linux/songs/{number}.txt"), &noise(number));
        }
        env.lantern(&["prepare"]).success();
        for number in 1..10 {
            std::fs::remove_file(env.path(&format!("exports/linux/songs/{number}.txt"))).unwrap();
        }
        env.write("exports/linux/letters/en.txt", "Dear Wren, come before the ebb.");
        env.lantern(&["prepare", "--version", "1.4.1"]).success();
    });
    let packs = |scene: &Scene| Store::at(scene.env.path(".lantern/store")).packs().unwrap();
    let before = packs(&scene);
    scene.env.lantern(&["keep", "--last", "1", "--yes"]).success();
    assert!(packs(&scene).iter().any(|pack| !before.contains(pack)), "nothing was written once more");
    scene.at_every_point(&["keep", "--last", "1", "--yes"]);
}

/// A copy with a file of its player's, and a newer release.
fn install_and_release(env: &TestEnv) {
    release(env);
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    env.write("player/save.txt", "my own");
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    env.write("exports/linux/letters/fr/nouvelle.txt", "Cher Aldous");
    std::fs::remove_dir_all(env.path("exports/linux/notes")).unwrap();
    env.write("lantern.toml", &env.config("1.4.0").replace("leave-out = [\"notes/**\"]\n", ""));
    env.release("1.4.0 (2)");
}

#[test]
fn install() {
    let mut scene = Scene::new(install_and_release);
    let said = scene.at_every_point(&["install", "brambleyard", "open-water", "player", "--target", "linux"]);
    assert!(said.contains("do not play yet"), "{said}");
}

#[test]
fn number() {
    Scene::new(release).at_every_point(&["number", "--next", "28"]);
}

#[test]
fn connect() {
    let mut scene = Scene::new(|env| std::fs::remove_dir_all(env.path("home")).unwrap());
    scene.at_every_point(&["connect", "brambleyard", "--client", "paper-heron"]);
}

#[test]
fn end_of_an_invitation() {
    let mut scene = Scene::new(|env| {
        env.lantern(&["invite", "brambleyard", "open-water", "--for", "Mika", "--owns", "full"]).success();
    });
    scene.at_every_point(&["invite", "brambleyard", "open-water", "--end", "Mika"]);
}

#[test]
fn ledger_rebuild() {
    let mut scene = Scene::damaged(|env| {
        next_release(env);
        env.release("1.4.0 (2)");
        std::fs::remove_file(env.path(".lantern/ledger.db")).unwrap();
    });
    scene.at_every_point(&["ledger", "rebuild"]);
}

#[test]
fn ledger_import() {
    let mut scene = Scene::new(|env| {
        release(env);
        // A colleague's computer, with a ledger of its own.
        std::fs::create_dir(env.path("laptop")).unwrap();
        std::fs::copy(env.path("lantern.toml"), env.path("laptop/lantern.toml")).unwrap();
        for arguments in [&["number", "--next", "40"][..], &["ledger", "export", "../laptop.jsonl"]] {
            assert!(env.command_in("laptop", arguments).status().unwrap().success());
        }
        std::fs::remove_dir_all(env.path("laptop")).unwrap();
    });
    scene.at_every_point(&["ledger", "import", "laptop.jsonl"]);
}

#[test]
fn repair_of_the_store() {
    let mut scene = Scene::damaged(|env| {
        next_release(env);
        env.release("1.4.0 (2)");
        let store = Store::at(env.path(".lantern/store"));
        for pack in store.packs().unwrap() {
            let path = store.pack_path(&pack);
            let mut bytes = std::fs::read(&path).unwrap();
            let middle = bytes.len() / 2;
            bytes[middle] ^= 1;
            std::fs::write(&path, bytes).unwrap();
        }
    });
    scene.at_every_point(&["repair"]);
}

#[test]
fn repair_of_a_copy() {
    let mut scene = Scene::new(|env| {
        release(env);
        env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
        env.write("player/letters/en.txt", "not what the build brought");
        std::fs::remove_file(env.path("player/saltmarsh.dat")).unwrap();
    });
    scene.at_every_point(&["repair", "player"]);
}

#[test]
fn give_up() {
    let mut scene = Scene::new(|env| {
        install_and_release(env);
        // Cut in the middle of the switch.
        let mut command = env.command(&["install", "brambleyard", "open-water", "player", "--target", "linux"]);
        for point in 1..MANY {
            let stopped = command.env("LANTERN_STOP_AT", point.to_string()).output().unwrap();
            assert_eq!(stopped.status.code(), Some(STOPPED), "no journal at any point");
            if env.read("player/letters/en.txt").starts_with(b"Dear Aldous, the lighthouse") {
                break;
            }
        }
    });
    scene.at_every_point(&["install", "--give-up", "player"]);
}
