//! `init`, and what a wrong `lantern.toml` looks like.

use lantern_rehearsal::exports::GameVersion;

use crate::env::TestEnv;

const INIT: [&str; 9] = [
    "init",
    "--name",
    "Saltmarsh Post",
    "--studio",
    "Paper Heron",
    "--identity",
    "example.paperheron.saltmarsh",
    "--version",
    "1.3.2",
];

#[test]
fn init_writes_what_it_sees() {
    let env = TestEnv::without_storefront();
    snapshot!(env.lantern(&INIT).whole(), @"
    found 1 export

      linux   exports/linux   linux-x86_64   starts saltmarsh

    wrote lantern.toml for Saltmarsh Post, 40 lines to read and change

    next: read lantern.toml, then: lantern prepare
    ");
    snapshot!(String::from_utf8(env.read("lantern.toml")).unwrap(), @r#"
    #:schema .lantern/lantern.schema.json
    # What the game is, what its exports are, and where players get it.
    # Paths start at this file's folder and use / on every system. Never write a secret here.

    [game]
    name = "Saltmarsh Post"
    studio = "Paper Heron"
    identity = "example.paperheron.saltmarsh"  # kept forever
    version = "1.3.2"  # or { file = "VERSION" }

    [targets.linux]
    export = "exports/linux"  # what the engine writes; never changed. With * the newest of several
    systems = ["linux-x86_64"]  # seen in "saltmarsh"
    starts = "saltmarsh"
    # leave-out = ["notes/**"]  # what players do not need
    # keep-aside = ["*.pdb"]  # sealed with the rest, never sent
    # must-have = ["*.dat"]  # without these the export is not whole

    # A target is one depot of its own name, unless rules divide it:
    # [depots.linux]
    # from = "linux"
    # leave-out = ["voices/**"]
    #
    # [choices.voices]
    # default = "by-language"  # of the player's system
    #
    # [depots.voices-fr]
    # from = "linux"  # or a list of targets that have the same files there
    # only = ["voices/fr/**"]
    # choice = { voices = "fr" }

    # [storefronts.brambleyard]
    # kind = "protocol"
    # address = "http://127.0.0.1:PORT"  # the stand-in: lantern rehearse
    # handle = "saltmarsh-post"  # what the storefront calls the game
    # depots = { linux = "sp-linux" }  # ours = theirs
    #
    # [storefronts.brambleyard.branches]
    # creek = { audience = "invited" }
    # open-water = { audience = "everyone" }
    "#);
    assert!(env.path(".lantern/lantern.schema.json").is_file());
    assert_eq!(env.read(".lantern/.gitignore").last(), Some(&b'\n'));
    env.lantern(&["prepare"]).success();
}

#[test]
fn init_overwrites_nothing_and_asks_nothing_without_a_terminal() {
    let env = TestEnv::without_storefront();
    snapshot!(env.lantern(&INIT[..5]).whole(), @"
    found 1 export

      linux   exports/linux   linux-x86_64   starts saltmarsh

    ------- stderr -------
    error: the game's identity is missing
      fix: give it with --identity
    [exit status: 7]
    ");
    assert!(!env.path("lantern.toml").exists() && !env.path(".lantern").exists());
    env.write("lantern.toml", "mine");
    let ran = env.lantern(&INIT).fails(2);
    assert!(ran.stderr().contains("is there already"), "{}", ran.stderr());
    assert_eq!(env.read("lantern.toml"), b"mine");
}

#[test]
fn init_with_a_storefront_gives_a_file_that_works() {
    let mut env = TestEnv::without_storefront();
    env.open_storefront(0);
    env.make_title();
    let storefront = format!("brambleyard={}", env.running().origin());
    let rest =
        ["--handle", "saltmarsh-post", "--depot", "sp-linux", "--branch", "open-water", "--storefront", &storefront];
    env.lantern(&[&INIT[..], &rest].concat()).success();
    env.connect();
    env.release("1.3.2 (1)");
}

#[test]
fn a_game_that_is_out_already_goes_on_after_its_last_number() {
    let env = TestEnv::without_storefront();
    env.lantern(&[&INIT[..], &["--next-number", "25"]].concat()).success();
    let document = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(document["release"]["number"], 25);
    let again = TestEnv::without_storefront();
    for bad in ["0", "-1", "2100000001", "x"] {
        assert_eq!(again.lantern(&[&INIT[..], &["--next-number", bad]].concat()).code(), 2, "{bad}");
    }
}

#[test]
fn init_refuses_answers_that_make_no_valid_file() {
    let env = TestEnv::without_storefront();
    let mut arguments = INIT;
    arguments[6] = "saltmarsh";
    snapshot!(env.lantern(&arguments).whole(), @r#"
    found 1 export

      linux   exports/linux   linux-x86_64   starts saltmarsh

    ------- stderr -------
    error: 1 thing is wrong in lantern.toml

      lantern.toml, line 8, column 12
        identity = "saltmarsh"  # kept forever
                   ~~~~~~~~~~~
      error: "saltmarsh" is not an identity: two or more parts of letters, digits, "-" and "_" with dots between, such as "example.studio.game" (wrong-value)
      fix: write the reverse-domain identity that the game keeps forever
    [exit status: 2]
    "#);
    assert!(!env.path("lantern.toml").exists());
}

#[test]
fn init_does_not_guess_between_several_exports() {
    let env = TestEnv::without_storefront();
    std::fs::create_dir(env.path("exports/other")).unwrap();
    std::fs::copy(env.path("exports/linux/saltmarsh"), env.path("exports/other/saltmarsh")).unwrap();
    let ran = env.lantern(&INIT).fails(7);
    assert!(ran.stderr().contains("there are several") && ran.stderr().contains("--export"), "{}", ran.stderr());
}

#[test]
fn everything_wrong_is_shown_at_once() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "starts =", "start =");
    env.edit("lantern.toml", "version = \"1.3.2\"", "version = 1.3");
    env.edit("lantern.toml", "exports/linux", "exports\\\\linux");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: 3 things are wrong in lantern.toml

      lantern.toml, line 5, column 11
        version = 1.3
                  ~~~
      error: game.version is a number, expected a text or a table (wrong-type)
      fix: put it into quotes

      lantern.toml, line 8, column 10
        export = "exports\\linux"
                 ~~~~~~~~~~~~~~~~
      error: paths use "/" on every system (backslash)
      fix: write "exports/linux"

      lantern.toml, line 10, column 1
        start = "saltmarsh"
        ~~~~~
      error: unknown key "start" (unknown-key)
      fix: did you mean "starts"?
    [exit status: 2]
    "#);
    env.write("lantern.toml", &env.config("1.3.2"));
    env.edit("lantern.toml", "exports/linux", "exports\\\\linux");
    env.edit("lantern.toml", "\"1.3.2\"", "\"v1.3.2\"");
    snapshot!(env.lantern(&["prepare"]).whole(), @r#"
    ------- stderr -------
    error: 2 things are wrong in lantern.toml

      lantern.toml, line 5, column 11
        version = "v1.3.2"
                  ~~~~~~~~
      error: "v1.3.2" is not a version: it starts with a digit and contains only letters, digits, ".", "-" and "+", 64 at most (wrong-value)
      fix: write a version such as "1.4.0"

      lantern.toml, line 8, column 10
        export = "exports\\linux"
                 ~~~~~~~~~~~~~~~~
      error: paths use "/" on every system (backslash)
      fix: write "exports/linux"
    [exit status: 2]
    "#);
}

#[test]
fn errors_have_a_document_too() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "starts =", "start =");
    let document = env.lantern(&["prepare", "--json"]).fails(2).json();
    assert_eq!(document["schema"], "lantern.error/1");
    assert_eq!(document["error"]["kind"], "usage");
    let finding = &document["error"]["findings"][0];
    assert_eq!((finding["code"].as_str(), finding["place"]["line"].as_u64()), (Some("unknown-key"), Some(10)));
}

#[test]
fn a_plain_address_elsewhere_is_a_clear_error() {
    let env = TestEnv::new();
    env.edit("lantern.toml", &env.running().origin(), "http://brambleyard.example:4870");
    snapshot!(env.lantern(&["live"]).whole(), @r#"
    ------- stderr -------
    error: 1 thing is wrong in lantern.toml

      lantern.toml, line 16, column 11
        address = "http://brambleyard.example:4870"
                  ~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~~
      error: "http://brambleyard.example:4870" would send your access unprotected over the network (wrong-address)
      fix: write https:// instead; without it only a storefront on this computer is asked, such as the rehearsal's
    [exit status: 2]
    "#);
}

#[test]
fn no_project_and_files_that_are_none() {
    let env = TestEnv::without_storefront();
    let ran = env.lantern(&["prepare"]).fails(2);
    assert!(ran.stderr().contains("no lantern.toml") && ran.stderr().contains("lantern init"), "{}", ran.stderr());
    std::fs::write(env.path("lantern.toml"), b"[game]\nname = \"\xff\"\n").unwrap();
    let ran = env.lantern(&["prepare"]).fails(2);
    assert!(ran.stderr().contains("line 2, column 9") && ran.stderr().contains("UTF-8"), "{}", ran.stderr());
    std::fs::write(env.path("lantern.toml"), vec![b'#'; 2 << 20]).unwrap();
    let ran = env.lantern(&["prepare"]).fails(6);
    assert!(ran.stderr().contains("is it the right file?"), "{}", ran.stderr());
    let long = format!("[game]\nname = {}\n", "x".repeat(200_000));
    std::fs::write(env.path("lantern.toml"), long).unwrap();
    let ran = env.lantern(&["prepare"]).fails(2);
    assert!(ran.stderr().len() < 2000, "a long line is shown around its place: {}", ran.stderr().len());
}

#[test]
fn the_project_is_found_from_below_and_by_option() {
    let env = TestEnv::new();
    std::fs::create_dir_all(env.path("exports/deep")).unwrap();
    let below = env.command_in("exports/deep", &["prepare", "--json"]).output().unwrap();
    assert!(below.status.success());
    let option = env.command_in("home/..", &["live", "--offline", "--project", env.path("exports").to_str().unwrap()]);
    let mut option = option;
    std::fs::create_dir_all(env.path("home")).unwrap();
    assert!(option.output().unwrap().status.success());
}

#[test]
fn the_version_may_stand_in_a_file_of_its_own() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "version = \"1.3.2\"", "version = { file = \"VERSION\" }");
    env.write("VERSION", "2.0.1\n");
    let document = env.lantern(&["prepare", "--json"]).success().one();
    assert_eq!(document["release"]["version"], "2.0.1");
    env.write("VERSION", "two\n");
    let ran = env.lantern(&["prepare"]).fails(2);
    assert!(ran.stderr().contains("version = { file") && ran.stderr().contains("VERSION"), "{}", ran.stderr());
    std::fs::remove_file(env.path("VERSION")).unwrap();
    env.lantern(&["prepare"]).fails(6);
}

#[test]
fn a_foreign_state_folder_is_left_alone() {
    let env = TestEnv::new();
    env.write(".lantern/precious", "of someone else");
    let ran = env.lantern(&["prepare"]).fails(6);
    assert!(ran.stderr().contains("was not made by lantern"), "{}", ran.stderr());
    assert_eq!(env.read(".lantern/precious"), b"of someone else");
    assert!(!env.path(".lantern/ledger.db").exists());
}

#[test]
fn check_looks_at_exports_although_the_configuration_is_wrong() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "studio = \"Paper Heron\"", "studio = \"<studio>\"");
    env.edit("lantern.toml", "handle = ", "handel = ");
    env.edit("lantern.toml", "starts = \"saltmarsh\"", "starts = \"Saltmarsh\"");
    snapshot!(env.lantern(&["check"]).whole(), @r#"
      linux   cannot be taken in

      lantern.toml, line 3, column 10
        studio = "<studio>"
                 ~~~~~~~~~~
      error: "<studio>" was never filled in (placeholder)
      fix: write the name that players see

      lantern.toml, line 17, column 1
        handel = "saltmarsh-post"
        ~~~~~~
      error: unknown key "handel" (unknown-key)
      fix: did you mean "handle"?

      lantern.toml, line 10, column 10
        starts = "Saltmarsh"
                 ~~~~~~~~~~~
      error: the start file Saltmarsh is not in the export (start-case)
      fix: letter case counts: write starts = "saltmarsh"

    checked: 3 errors

    next: fix them, then run: lantern check
    [exit status: 1]
    "#);
    // A target that is itself wrong is not looked at: its export would be judged by what does not stand there.
    env.edit("lantern.toml", "starts = \"Saltmarsh\"", "start = \"saltmarsh\"");
    let stdout = env.lantern(&["check"]).fails(1).stdout();
    assert!(stdout.contains("checked: 3 errors") && !stdout.contains("start-case"), "{stdout}");
    env.lantern(&["prepare"]).fails(2);
}

#[test]
fn one_export_for_several_systems() {
    use lantern_rehearsal::exports::{self, GameVersion};
    let env = TestEnv::without_storefront();
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    exports::write_linux(&env.path("exports/desktop"), GameVersion::Old, lantern_core::system::System::LinuxX86_64)
        .unwrap();
    exports::write_windows(&env.path("exports/desktop"), GameVersion::Old).unwrap();
    let game = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--version", "1.3.2"];
    let identity = ["--identity", "example.paperheron.saltmarsh"];
    snapshot!(env.lantern(&[&["init"], &game[..], &identity].concat()).whole(), @"
    found 1 export

      desktop   exports/desktop   windows-x86_64, linux-x86_64   starts Saltmarsh Post.exe, saltmarsh

    wrote lantern.toml for Saltmarsh Post, 43 lines to read and change

    next: read lantern.toml, then: lantern prepare
    ");
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    assert!(text.contains("{ run = [\"saltmarsh\"], systems = [\"linux-x86_64\"] }"), "{text}");
    let release = env.lantern(&["prepare", "--json"]).success().one();
    let target = &release["release"]["targets"][0];
    assert_eq!((target["systems"].as_array().unwrap().len(), target["starts"].as_array().unwrap().len()), (2, 2));
    env.edit(
        "lantern.toml",
        "systems = [\"windows-x86_64\", \"linux-x86_64\"]",
        "systems = [\"windows-x86_64\", \"linux-x86_64\", \"macos-x86_64\"]",
    );
    assert!(env.lantern(&["check"]).fails(1).stdout().contains("nothing starts the game on macos-x86_64"));
}

/// Of several programs for one system the game is proposed, and not what reports its crashes; exports are found in folders of
/// many names.
#[test]
fn init_proposes_the_game_and_not_what_lies_beside_it() {
    let env = TestEnv::without_storefront();
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    let folder = env.path("Builds-2026/windows");
    lantern_rehearsal::exports::write_windows(&folder, GameVersion::Old).unwrap();
    let game = std::fs::read(folder.join("Saltmarsh Post.exe")).unwrap();
    std::fs::write(folder.join("SaltmarshCrashHandler.exe"), [game.as_slice(), &vec![0; game.len() * 4]].concat())
        .unwrap();
    let answers = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--version", "1.3.2"];
    let placeholder = env.lantern(&[&["init"], &answers[..], &["--identity", "com.company.product"]].concat());
    let said = placeholder.fails(2).stderr();
    assert!(said.contains("\"com.company.product\" was never filled in"), "{said}");
    assert!(!env.path("lantern.toml").exists());
    let identity = ["--identity", "example.paperheron.saltmarsh"];
    let made = env.lantern(&[&["init"], &answers[..], &identity].concat()).success().stdout();
    assert!(made.contains("starts Saltmarsh Post.exe") && made.contains("not SaltmarshCrashHandler.exe"), "{made}");
    let text = std::fs::read_to_string(env.path("lantern.toml")).unwrap();
    assert!(text.contains("starts = \"Saltmarsh Post.exe\"  # not SaltmarshCrashHandler.exe"), "{text}");
}

/// Where names and sizes say nothing, the one that opens a window of its own is the game; where signs speak against each
/// other, nothing is guessed.
#[test]
fn init_takes_the_program_that_opens_a_window() {
    let proposes = |windowed: &[&str], large: &str| {
        let env = TestEnv::without_storefront();
        std::fs::remove_dir_all(env.path("exports")).unwrap();
        let folder = env.path("build/windows");
        lantern_rehearsal::exports::write_windows(&folder, GameVersion::Old).unwrap();
        let program = std::fs::read(folder.join("Saltmarsh Post.exe")).unwrap();
        for name in ["Saltmarsh Post.exe", "tides.exe"] {
            let mut program = program.clone();
            // `Subsystem` of the optional header, which begins 24 bytes behind `PE`: 2 opens a window, 3 is a console's.
            program[0x80 + 24 + 68] = if windowed.contains(&name) { 2 } else { 3 };
            if large == name {
                program.resize(program.len() * 3, 0);
            }
            std::fs::write(folder.join(name), program).unwrap();
        }
        let answers = ["--name", "Saltmarsh Post", "--studio", "Paper Heron", "--version", "1.3.2"];
        let identity = ["--identity", "example.paperheron.saltmarsh"];
        env.lantern(&[&["init"], &answers[..], &identity].concat()).success();
        let text = String::from_utf8(env.read("lantern.toml")).unwrap();
        text.lines().find(|line| line.contains("starts = ")).unwrap().to_owned()
    };
    let game = "starts = \"Saltmarsh Post.exe\"  # not tides.exe";
    assert_eq!(proposes(&["Saltmarsh Post.exe"], ""), game);
    assert_eq!(proposes(&[], "Saltmarsh Post.exe"), game);
    assert!(proposes(&[], "").starts_with("# starts = "));
    assert!(proposes(&["tides.exe"], "Saltmarsh Post.exe").starts_with("# starts = "));
}
