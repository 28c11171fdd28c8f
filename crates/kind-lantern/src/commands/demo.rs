use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use jiff::SignedDuration;
use lantern_core::address::Address;
use lantern_core::system::{Family, System};
use lantern_keys::key::PrivateKey;
use lantern_keys::{KeyError, Passphrase, pkcs12};
use lantern_project::Project;
use lantern_rehearsal::exports::{self, GameVersion};
use lantern_rehearsal::server::Running;
use lantern_rehearsal::stand_in::{CLIENT_ID, StandIn, StandInDocument};
use lantern_sign::team;
use lantern_views::paint::{command, faint, good, strong};
use lantern_views::{Table, View};

use super::Done;
use super::rehearse::failed;
use crate::diagnostic::CommandError;
use crate::passphrase;
use crate::ui::Ui;

/// What the example game lacks on purpose.
const MEANT: &str = r#"[checks]
accept = [
    { code = "no-icon", because = "the example game has none", until = "UNTIL" },
    { code = "unsigned", because = "nobody's key signs an example", until = "UNTIL" },
    { code = "no-time-stamp", because = "no computer trusts the example's certificate", until = "UNTIL" },
    { code = "small-pages", because = "no device starts the example", until = "UNTIL" },
    { code = "console-window", target = "windows", because = "it prints its letters there" },
]
"#;

/// Shown at the end of the help.
const EXAMPLES: &str = r#"Examples:
  lantern demo
  lantern demo /tmp/saltmarsh"#;

/// Show the whole chain on example data
///
/// Makes small exports of Saltmarsh Post for every system, runs a stand-in storefront on a free port, and runs every
/// command of the chain for real, each shown before its output. Leaves a folder to continue in.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Args {
    /// The folder to make; it must not exist yet
    #[arg(default_value = "lantern-demo")]
    dir: PathBuf,
}

/// Depots beside those of the desktops, at the stand-in.
const MORE_HANDLES: &str = r#"android = "sp-phone"
ios = "sp-pocket"
headset = "sp-headset"
web = "sp-page"
"#;
/// What the depot of Linux leaves out when the check has been read, and before.
const THOUGHT_THROUGH: &str = r#"leave-out = ["voices/**"]"#;
const HASTY: &str = r#"leave-out = ["voices/fr/**", "voices/ja/**"]"#;
const KEY: &str = "saltmarsh-mobile";
/// The bundle that Old Pier makes packages of, which nobody installs; the others go to Brambleyard.
const BUNDLE: &str = "saltmarsh.aab";
const BUNDLE_TARGET: &str = r#"# Old Pier makes packages for phones itself, of a bundle.
[targets.bundle]
systems = ["android"]
export = "exports/saltmarsh.aab"
"#;
const BUNDLE_RULES: &str = r#"[hand-over.bundle]
form = "package"                      # as it is, not in an archive
name = "{game.name} {release.version}.aab"
"#;
const THEIRS: &str = r#"targets = ["windows", "macos", "linux", "android", "headset", "ios", "web"]
"#;
const IDENTITY: &str = "example.paperheron.saltmarsh";

/// What the studio knows of Old Pier.
const OLD_PIER_RULES: &str = include_str!("../../../../docs/examples/old-pier.toml");
const OLD_PIER: &str = r#"[storefronts.old-pier]
kind = "by-hand"
rules = "places/old-pier.toml"
targets = ["windows", "macos", "linux", "bundle"]
values = { berth = "7" }
people = { publisher = "oar" }
branches = { pier = { audience = "everyone" } }
"#;
const GULL_ROCK: &str = r#"[storefronts.gull-rock]
kind = "connector"
run = ["PYTHON", "places/gull_rock.py"]
targets = ["windows", "macos", "linux"]
values = { shelf = "gull-rock" }
branches = { ledge = { audience = "everyone" } }
"#;
const GULL_ROCK_CONNECTOR: &str = include_str!("../../../../docs/examples/gull_rock.py");
const HARBOUR_OFFICE: &str = r#"[approvals.harbour-office]
targets = ["macos"]
run = ["PYTHON", "approvals/harbour_office.py"]
values = { desk = "harbour-office" }
usually = "2 hours"
"#;
const HARBOUR_OFFICE_PROGRAM: &str = include_str!("../../../../docs/examples/harbour_office.py");
const MACOS_EXPORT: &str = "export = \"exports/macos\"\n";
const PASSPHRASE: &str = "the tide comes in slowly";
const TEAM: &str = "HERON12345";
/// How often the passphrase of a file of the example is hashed: nobody has to be kept out.
const ROUNDS: u32 = 1_000;
/// The key that tests fix, so that the same output comes out.
fn fixed_key() -> Option<Result<PrivateKey, KeyError>> {
    #[cfg(debug_assertions)]
    return super::for_tests::key();
    #[cfg(not(debug_assertions))]
    None
}

/// What Python is called.
const PYTHON: &str = if cfg!(windows) { "python" } else { "python3" };

const A_DAY: SignedDuration = SignedDuration::from_hours(24);

struct Demo<'a> {
    ui: &'a Ui,
    folder: PathBuf,
    program: PathBuf,
    running: &'a Running,
    system: System,
    /// How many programs were started.
    #[cfg(debug_assertions)]
    started: std::cell::Cell<u32>,
}

pub fn run(args: &Args, ui: &Ui) -> Done {
    if ui.json {
        let what = "the demo is for reading: it has no JSON document";
        return Err(CommandError::usage(what, "each command of the chain has one: lantern live --json"));
    }
    let started = Instant::now();
    if fs::symlink_metadata(&args.dir).is_ok() {
        let what = format!("{} is there already; the demo overwrites nothing", args.dir.display());
        return Err(CommandError::usage(what, "name another folder, or remove that one: lantern demo DIR"));
    }
    fs::create_dir_all(&args.dir).map_err(|e| CommandError::io("make the demo's folder", e))?;
    let folder = std::path::absolute(&args.dir).map_err(|e| CommandError::io("find the demo's folder", e))?;
    let stand_in =
        StandIn::open(&folder.join("rehearsal"), StandInDocument::brambleyard()).map_err(failed("open its state"))?;
    // Two days pass in the story, the last of which ends now.
    stand_in.pass_time(-(A_DAY + A_DAY));
    let running = Running::start(stand_in, 0).map_err(failed("start"))?;
    let demo = Demo {
        ui,
        folder,
        program: std::env::current_exe().map_err(|e| CommandError::io("find this program", e))?,
        running: &running,
        system: System::this_computer().filter(|s| s.family() == Family::Linux).unwrap_or(System::LinuxX86_64),
        #[cfg(debug_assertions)]
        started: std::cell::Cell::default(),
    };
    demo.chain()?;
    demo.farewell(&args.dir, started);
    Ok(())
}

impl Demo<'_> {
    fn chain(&self) -> Done {
        self.title("Paper Heron has exported Saltmarsh Post 1.3.2, for everything that their players have");
        self.export(GameVersion::Old)?;
        let studio = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--identity", IDENTITY];
        self.run(&[&["init"], &studio[..], &["--version", "1.3.2", "--next-number", "25"]].concat())?;
        self.say_more()?;
        self.make_key()?;
        self.title("What would land where? A finding, and its fix");
        self.run_until(&["check"], 1)?;
        self.edit(HASTY, THOUGHT_THROUGH)?;
        self.ui.say(&faint("in lantern.toml, [depots.linux] now has leave-out = [\"voices/**\"]\n"));
        self.run(&["depots"])?;
        self.title("Brambleyard is a stand-in storefront on this computer; the title is made on its own pages");
        self.make_title()?;
        self.run(&["connect", "brambleyard", "--client", CLIENT_ID])?;
        self.title("The first release: sealed, sent, and put on everyone's line");
        self.run(&["prepare"])?;
        self.run(&["push", "brambleyard", "--message", "the version that is out", "--yes"])?;
        self.run_silently(&["promote", "brambleyard", "creek", "--yes"])?;
        self.a_day_passes();
        self.run(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (25)"])?;
        self.title("A player gets it");
        self.run(&self.install_and_start(&["--choose", "voices=fr"]))?;
        self.title("A release candidate goes to the testers' line, and has a save bug");
        self.export(GameVersion::Candidate)?;
        self.run(&["prepare", "--version", "1.4.0-rc"])?;
        self.run_silently(&["push", "brambleyard", "--yes"])?;
        self.run(&["promote", "brambleyard", "creek", "--yes"])?;
        self.run(&["invite", "brambleyard", "creek", "--for", "Marsh testers"])?;
        self.run(&["releases", "withdraw", "26", "--because", "a save bug", "--yes"])?;
        self.run(&["rollback", "brambleyard", "creek", "--because", "testers go back", "--yes"])?;
        self.title("1.4.0: a small update is tried, then goes to everyone");
        self.export(GameVersion::New)?;
        self.raise_version()?;
        self.look_at_macos()?;
        self.run(&["prepare"])?;
        if self.starts_here() {
            self.run(&["try", "--yes"])?;
        }
        self.run(&["push", "brambleyard", "--notes", "The lighthouse is lit.", "--yes"])?;
        self.run_silently(&["promote", "brambleyard", "creek", "--yes"])?;
        self.a_day_passes();
        self.run(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (27)"])?;
        self.title("The player's machine asks again: only what is missing comes");
        self.run(&self.install_and_start(&[]))?;
        self.run(&["verify", "player"])?;
        self.by_hand()?;
        self.through_a_connector()?;
        self.title("Which build is live where, and how it came to be");
        self.run(&["live"])?;
        self.run(&["history", "--count", "12"])
    }

    /// A key that signs the packages for phones and headsets, and a copy of it that is tried.
    fn make_key(&self) -> Done {
        self.title("A key for phones and headsets, and a copy of it that is tried");
        let said = "passphrases are asked for; here the variable LANTERN_KEY_PASSPHRASE has it";
        self.ui.say(&format!("{}\n", faint(said)));
        self.run(&["key", "new", KEY, "--kind", "p-256"])?;
        self.run_silently(&["key", "backup", KEY, "stick/saltmarsh-mobile.p12"])?;
        self.run(&["key", "drill", KEY, "stick/saltmarsh-mobile.p12"])?;
        for file in ["saltmarsh.apk", "saltmarsh-headset.apk", BUNDLE] {
            let export = &format!("export = \"exports/{file}\"\n");
            self.edit(export, &format!("{export}stamp = true\nsign = \"{KEY}\"\n"))?;
        }
        let said = format!(
            "in lantern.toml, the targets android, headset and bundle now have sign = \"{KEY}\" and stamp = true: version and\n\
             number are written into them, so that nobody exports them again for a forgotten number"
        );
        self.ui.say(&format!("{}\n", faint(said)));
        Ok(())
    }

    /// The bundle for macOS is signed, and its system's vendor looks at it before it is sealed.
    fn look_at_macos(&self) -> Done {
        self.title("macOS: signed with the certificate of a team, and looked at before players get it");
        let now = lantern_project::now();
        let entry = match fixed_key() {
            Some(key) => team::certificate(key?, TEAM, "Paper Heron", now)?,
            None => team::new(TEAM, "Paper Heron", now)?,
        };
        let file = pkcs12::write(&entry, &Passphrase::new(PASSPHRASE.to_owned()), ROUNDS)?;
        let path = self.folder.join("from-harbour-office.p12");
        fs::write(path, &*file).map_err(|e| CommandError::io("write a file of the example", e))?;
        self.run_silently(&["key", "import", "team", "from-harbour-office.p12"])?;
        self.run_silently(&["key", "backup", "team", "stick/team.p12"])?;
        self.run_silently(&["key", "drill", "team", "stick/team.p12"])?;
        self.edit(MACOS_EXPORT, &format!("{MACOS_EXPORT}sign = \"team\"\n"))?;
        if !self.has_python() {
            self.ui.say(&format!("{}\n", faint("Python is not on this computer: nobody looks at it")));
            return Ok(());
        }
        let said =
            "in lantern.toml, the target macos now has sign = \"team\"; Harbour Office is a program in approvals/:";
        let approval = HARBOUR_OFFICE.replace("PYTHON", PYTHON);
        self.add_storefront(said, ("approvals/harbour_office.py", HARBOUR_OFFICE_PROGRAM), &approval)?;
        self.run_until(&["prepare"], 7)?;
        self.ui.say(&format!("{}\n", faint("some time later it is asked again:")));
        Ok(())
    }

    /// Whether the programs of the example can be run.
    fn has_python(&self) -> bool {
        let status = Command::new(PYTHON).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
        status.is_ok_and(|status| status.success())
    }

    /// A storefront where a person does what is done, with what was out there before.
    fn by_hand(&self) -> Done {
        self.title("Old Pier has no interface for programs: a person does what is done there");
        let said = "its rules are written once, in places/old-pier.toml:";
        let rules = format!("{OLD_PIER_RULES}\n{BUNDLE_RULES}");
        self.add_storefront(said, ("places/old-pier.toml", &rules), OLD_PIER)?;
        let out = ["--version", "1.2.9", "--number", "24", "--number-there", "9", "--since", "2026-03-01"];
        self.run(&[&["adopt", "old-pier", "pier"], &out[..], &["--yes"]].concat())?;
        self.run(&["push", "old-pier", "--notes", "The lighthouse is lit.", "--yes"])?;
        self.run_silently(&["confirm", "old-pier", "carry"])?;
        self.run(&["confirm", "old-pier", "letter", "--read-back", "number-there=12"])?;
        self.run_silently(&["promote", "old-pier", "pier", "--confirm", "1.4.0 (27)"])?;
        self.run(&["confirm", "old-pier", "thursday", "--waiting"])
    }

    /// A storefront that a program of the studio's own serves.
    fn through_a_connector(&self) -> Done {
        self.title("Gull Rock: a program of Paper Heron's own carries folders there");
        let shelf = self.folder.join("gull-rock");
        fs::create_dir_all(&shelf).map_err(|e| CommandError::io("make Gull Rock's shelf", e))?;
        let said = "a connector of 80 lines is in places/gull_rock.py; Gull Rock itself is a folder here";
        let storefront = GULL_ROCK.replace("PYTHON", PYTHON);
        self.add_storefront(said, ("places/gull_rock.py", GULL_ROCK_CONNECTOR), &storefront)?;
        if !self.has_python() {
            self.ui.say(&format!("{}\n", faint("Python is not on this computer: the connector is not run")));
            return Ok(());
        }
        self.run(&["push", "gull-rock", "--yes"])?;
        self.run_silently(&["promote", "gull-rock", "ledge", "--confirm", "1.4.0 (27)"])
    }

    /// Writes a file, and adds a storefront to the configuration, both with an editor.
    fn add_storefront(&self, said: &str, (name, text): (&str, &str), storefront: &str) -> Done {
        let path = self.folder.join(name);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(|e| CommandError::io("make a folder", e))?;
        }
        fs::write(&path, text).map_err(|e| CommandError::io("write a file of the example", e))?;
        let config = self.folder.join("lantern.toml");
        let before = fs::read_to_string(&config).map_err(|e| CommandError::io("read lantern.toml", e))?;
        let after = format!("{before}\n{storefront}");
        fs::write(&config, after).map_err(|e| CommandError::io("write lantern.toml", e))?;
        self.ui.say(&format!("{}\n", faint(said)));
        for line in storefront.lines() {
            self.ui.say(format!("  {line}").trim_end());
        }
        self.ui.say("");
        Ok(())
    }

    /// Whether one of the example's exports starts on this computer: those for Linux and for Windows do.
    fn starts_here(&self) -> bool {
        System::any_runs_here(&[self.system, System::WindowsX86_64])
    }

    /// Elsewhere the game is installed all the same, but cannot be started.
    fn install_and_start(&self, more: &[&'static str]) -> Vec<&'static str> {
        let mut arguments = vec!["install", "brambleyard", "open-water", "player"];
        arguments.extend(more);
        match self.starts_here() {
            true => arguments.push("--start"),
            false => arguments.extend(["--target", "linux"]),
        }
        arguments
    }

    fn title(&self, text: &str) {
        self.ui.say(&format!("\n{}\n", strong(format!("── {text} ──"))));
    }

    /// Runs a command of the chain: this very program, in the demo's folder, with its output as it is.
    fn run(&self, arguments: &[&str]) -> Done {
        self.run_until(arguments, 0)
    }

    /// Runs a command that ends with this exit code.
    fn run_until(&self, arguments: &[&str], code: i32) -> Done {
        self.ui.say(&format!("{} {}\n", faint("$"), command(command_line(arguments))));
        let status = self.command(arguments)?.status().map_err(|e| CommandError::io("start this program again", e))?;
        self.ui.say("");
        if status.code() == Some(code) {
            return Ok(());
        }
        let what = format!("lantern {} ended with {status}", arguments.first().unwrap_or(&""));
        Err(CommandError::computer(what, "its output above says why"))
    }

    /// Runs a command whose like was shown before; only that it worked is said.
    fn run_silently(&self, arguments: &[&str]) -> Done {
        self.ui.say(&format!("{} {}", faint("$"), command(command_line(arguments))));
        let output = self.command(arguments)?.output().map_err(|e| CommandError::io("start this program again", e))?;
        self.ui.say(&format!("  {}\n", faint("done, as before")));
        if output.status.success() {
            return Ok(());
        }
        let what = format!("lantern {} ended with {}", arguments.first().unwrap_or(&""), output.status);
        Err(CommandError::computer(what, String::from_utf8_lossy(&output.stderr)))
    }

    fn command(&self, arguments: &[&str]) -> Result<Command, CommandError> {
        if self.ui.is_stopped() {
            return Err(CommandError::stopped());
        }
        let mut command = Command::new(&self.program);
        command
            .args(arguments)
            .current_dir(&self.folder)
            .env("LANTERN_SECRET", self.running.stand_in().secret())
            .stdin(Stdio::null());
        // Nothing of the example goes into anybody's own settings.
        command.env("LANTERN_HOME", self.home());
        command.env(passphrase::VARIABLE, PASSPHRASE);
        // The voices that are installed are those of the story, whatever language this computer has.
        command.env("LC_ALL", "C").env_remove("LANGUAGE");
        #[cfg(debug_assertions)]
        {
            let before = self.started.get();
            self.started.set(before + 1);
            command.envs(super::for_tests::variables_of_child(before));
            if let Some(now) = super::for_tests::clock_of_child(before) {
                self.running.stand_in().set_clock(now);
            }
        }
        Ok(command)
    }

    /// Where access to the stand-in is kept.
    fn home(&self) -> PathBuf {
        self.folder.join("home")
    }

    /// What Brambleyard's rules ask for, without the waiting.
    fn a_day_passes(&self) {
        self.running.stand_in().pass_time(A_DAY);
        let why = "a day passes at Brambleyard: open-water takes what creek has had for 24 hours";
        self.ui.say(&format!("{}\n", faint(why)));
    }

    fn export(&self, version: GameVersion) -> Done {
        let folder = self.folder.join("exports");
        exports::write_all(&folder, version, self.system)
            // What goes to players is chosen first; the bundle is added by hand.
            .and_then(|()| match version {
                GameVersion::Old => Ok(()),
                _ => exports::write_bundle(&folder.join(BUNDLE), version),
            })
            .map_err(|e| CommandError::io("write the example exports", e))
    }

    /// What a person would write with their editor: depots, and the storefront.
    fn say_more(&self) -> Done {
        self.edit("# leave-out = [\"notes/**\"]  # what players do not need\n", "")?;
        self.edit("[targets.linux]\n", "[targets.linux]\nleave-out = [\"notes/**\"]\n")?;
        self.edit("[targets.windows]\n", "[targets.windows]\nkeep-aside = [\"*.pdb\"]\n")?;
        let path = self.folder.join("lantern.toml");
        let text = fs::read_to_string(&path).map_err(|e| CommandError::io("read lantern.toml", e))?;
        let text = text.split("# A target is one depot").next().unwrap_or_default();
        // One line is not thought through: the check is to find it.
        let linux = |rule: &str| format!("from = \"linux\"\n{rule}");
        let rules = exports::config::DESKTOP_DEPOTS.replace(&linux(THOUGHT_THROUGH), &linux(HASTY));
        let stand_in = exports::config::brambleyard(&self.running.origin(), MORE_HANDLES);
        let stand_in =
            stand_in.replace("handle = \"saltmarsh-post\"\n", &format!("handle = \"saltmarsh-post\"\n{THEIRS}"));
        exports::write_bundle(&self.folder.join("exports").join(BUNDLE), GameVersion::Old)
            .map_err(|e| CommandError::io("write the bundle of the example", e))?;
        let today = lantern_project::today();
        let until = today.checked_add(jiff::Span::new().months(12)).unwrap_or(today);
        let meant = MEANT.replace("UNTIL", &until.to_string());
        let more = format!(
            "# Voices are the same on every desktop: one depot for each language serves all three.\n{rules}\n{BUNDLE_TARGET}\n{meant}\n{stand_in}"
        );
        let text = format!("{text}{more}");
        fs::write(&path, text).map_err(|e| CommandError::io("write lantern.toml", e))?;
        self.ui.say(&format!("{}\n", faint("what init cannot know is added to lantern.toml with an editor:")));
        for line in more.lines() {
            self.ui.say(format!("  {line}").trim_end());
        }
        self.ui.say("");
        Ok(())
    }

    fn make_title(&self) -> Done {
        let project = Project::find(&self.folder, self.ui.stop.clone())?;
        let port = Address::parse(&self.running.origin()).map_or(0, |a| a.port());
        super::rehearse::make_titles(self.running.stand_in(), project.config(), port)?;
        Ok(())
    }

    fn edit(&self, from: &str, to: &str) -> Done {
        let path = self.folder.join("lantern.toml");
        let text = fs::read_to_string(&path).map_err(|e| CommandError::io("read lantern.toml", e))?;
        if !text.contains(from) {
            let missing = std::io::Error::new(std::io::ErrorKind::NotFound, format!("{from:?} is not in it"));
            return Err(CommandError::io("edit lantern.toml", missing));
        }
        fs::write(&path, text.replacen(from, to, 1)).map_err(|e| CommandError::io("write lantern.toml", e))
    }

    fn raise_version(&self) -> Done {
        self.edit("version = \"1.3.2\"", "version = \"1.4.0\"")?;
        self.ui.say(&faint("in lantern.toml the version is raised: version = \"1.4.0\"\n"));
        Ok(())
    }

    /// Returns what makes the shell find this program, unless it does already.
    fn path_line(&self) -> Option<String> {
        let folder = self.program.parent()?;
        let path = std::env::var_os("PATH").unwrap_or_default();
        if std::env::split_paths(&path).any(|known| known == folder) {
            return None;
        }
        let folder = folder.display();
        Some(if cfg!(windows) { format!("$env:PATH = \"{folder};$env:PATH\"") } else { format!("PATH={folder}:$PATH") })
    }

    fn farewell(&self, folder: &Path, started: Instant) {
        let seconds = started.elapsed().as_secs_f32();
        self.ui.say(&format!("{} the whole chain in {seconds:.1} seconds. Go on in its folder:\n", good("done:")));
        let mut table = Table::default();
        // These lines hold this computer's paths: they stand outside of the columns, whose widths are always the same.
        self.ui.say(&format!("  {}", command(format!("cd {}", folder.display()))));
        if let Some(line) = self.path_line() {
            self.ui.say(&format!("  {}", command(line)));
        }
        let home = self.home();
        let home = home.display();
        let line = if cfg!(windows) {
            format!("$env:LANTERN_HOME = \"{home}\"")
        } else {
            format!("export LANTERN_HOME={home}")
        };
        self.ui.say(&format!("  {}", command(line)));
        table.row([command("lantern rehearse --state rehearsal"), faint("opens Brambleyard again, as you left it")]);
        table.row([command("lantern live"), faint("in another terminal")]);
        let mut view = View::default();
        view.table(table);
        self.ui.show(&view);
    }
}

/// Writes a command as it could be typed; a long one over several lines, an option on each.
fn command_line(arguments: &[&str]) -> String {
    let words: Vec<String> = arguments.iter().map(|a| quoted(a)).collect();
    let line = format!("lantern {}", words.join(" "));
    // What goes on in the next line is written otherwise in each shell.
    let goes_on = if cfg!(windows) { '`' } else { '\\' };
    if line.chars().count() <= 90 { line } else { line.replace(" --", &format!(" {goes_on}\n    --")) }
}

fn quoted(text: &str) -> String {
    let is_plain = text.chars().all(|c| c.is_ascii_alphanumeric() || "-_./=:".contains(c));
    if is_plain { text.to_owned() } else { format!("\"{text}\"") }
}
