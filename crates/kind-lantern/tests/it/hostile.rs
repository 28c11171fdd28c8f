//! Exports and files that nobody would make on purpose.

use crate::env::TestEnv;

#[test]
fn three_hundred_folders_deep() {
    let env = TestEnv::live();
    let deep = "d/".repeat(300);
    env.write(&format!("exports/linux/{deep}letter.txt"), "down here");
    env.lantern(&["prepare", "--version", "1.4.0"]).success();
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.4.0 (2)"]).success();
    env.lantern(&["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    assert_eq!(env.read(&format!("player/{deep}letter.txt")), b"down here");
    env.lantern(&["releases", "write", "2", "out.tar.gz"]).success();
    env.write(
        "lantern.toml",
        &env.config("1.4.0").replace("exports/linux", "out.tar.gz").replace("leave-out = [\"notes/**\"]\n", ""),
    );
    assert_eq!(env.lantern(&["prepare", "--json"]).success().one()["made"], false);
}

#[test]
fn a_configuration_that_is_none() {
    let env = TestEnv::new();
    let huge = format!("[game]\n{}", "a = 1\n".repeat(1_000_000));
    env.write("lantern.toml", &huge);
    let stderr = env.lantern(&["check"]).fails(6).stderr();
    assert!(stderr.contains("far larger than any real one"), "{stderr}");
    let many: String = (0..60_000).map(|i| format!("k{i} = 1\n")).collect();
    env.write("lantern.toml", &format!("[game]\n{many}"));
    let ran = env.lantern(&["check"]).fails(2);
    assert!(ran.whole().len() < 200_000, "{} bytes of findings", ran.whole().len());
}

#[cfg(unix)]
#[test]
fn names_that_would_fool_a_terminal() {
    let env = TestEnv::new();
    env.write("exports/linux/letters/\u{202e}txt.exe", "who am I");
    for command in [
        ["depots", "--as", "files"].as_slice(),
        &["depots", "--as", "tree"],
        &["prepare"],
        &["releases", "1", "--files"],
    ] {
        let ran = env.lantern(command).success();
        assert!(!ran.whole().contains('\u{202e}'), "{}", ran.whole());
    }
    assert!(env.lantern(&["releases", "1", "--files"]).success().stdout().contains("\\u{202e}txt.exe"));
}

/// A hole is no bytes on the disk: the file is there at once, and reading all of it would take half an hour.
#[cfg(unix)]
#[test]
fn a_terabyte_of_nothing() {
    let env = TestEnv::new();
    let file = std::fs::File::create(env.path("exports/linux/world.dat")).unwrap();
    file.set_len(1 << 40).unwrap();
    snapshot!(env.lantern(&["prepare"]).whole(), @"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      warning: world.dat is 1.10 TB long, and only 0 B of it were ever written (sparse-file)
      fix: was the engine ended early? Export it again

      error: world.dat is 1.10 TB long; no file of a build is longer than 1.00 TB (too-large)
      fix: is it a disk image? Name it in leave-out
    [exit status: 1]
    ");
    file.set_len(100 << 20).unwrap();
    let check = env.lantern(&["check"]).success().stdout();
    assert!(check.contains("only 0 B of it were ever written (sparse-file)"), "{check}");
}

/// The program without the rights that only an administrator has, no matter who runs the tests.
#[cfg(target_os = "linux")]
fn as_anybody(env: &TestEnv, arguments: &[&str]) -> crate::env::Ran {
    use std::os::unix::fs::MetadataExt;
    let mut plain = env.command(arguments);
    if std::fs::metadata("/proc/self").unwrap().uid() != 0 {
        return crate::env::Ran { output: plain.output().unwrap() };
    }
    let mut command = std::process::Command::new("setpriv");
    command.args(["--bounding-set", "-dac_override,-dac_read_search", "--inh-caps", "-all"]);
    command.arg(plain.get_program()).args(plain.get_args());
    command.current_dir(plain.get_current_dir().unwrap()).env_clear();
    command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    command.env("PATH", std::env::var_os("PATH").unwrap());
    crate::env::Ran { output: command.output().expect("setpriv of util-linux is there") }
}

#[cfg(target_os = "linux")]
fn set_mode(env: &TestEnv, name: &str, mode: u32) {
    use std::os::unix::fs::PermissionsExt;
    let done = std::fs::set_permissions(env.path(name), std::fs::Permissions::from_mode(mode));
    assert!(done.is_ok(), "{name}: {done:?}");
}

#[cfg(target_os = "linux")]
#[test]
fn files_and_folders_that_may_not_be_read() {
    let env = TestEnv::new();
    set_mode(&env, "exports/linux/letters/en.txt", 0o000);
    snapshot!(as_anybody(&env, &["prepare"]).whole(), @"
    ------- stderr -------
    error: could not read letters/en.txt
      why: Permission denied (os error 13)
      fix: give yourself permission, then run the same command again
    [exit status: 6]
    ");
    set_mode(&env, "exports/linux/letters", 0o000);
    snapshot!(as_anybody(&env, &["prepare"]).whole(), @"
    ------- stderr -------
    error: the exports cannot be sealed: 1 error

      error: the folder letters/ cannot be read: Permission denied (os error 13) (unreadable)
      fix: give yourself permission to read it
    [exit status: 1]
    ");
    set_mode(&env, "exports/linux/letters", 0o755);
    set_mode(&env, "exports/linux/letters/en.txt", 0o644);
    as_anybody(&env, &["prepare"]).success();
}

#[cfg(target_os = "linux")]
#[test]
fn folders_that_may_not_be_written() {
    let env = TestEnv::new();
    // Exports are only read.
    set_mode(&env, "exports/linux", 0o555);
    as_anybody(&env, &["prepare"]).success();
    set_mode(&env, "exports/linux", 0o755);
    // The game's folder belongs to someone else.
    let all = [".lantern/store", ".lantern/store/releases", ".lantern/cache", ".lantern/logs", ".lantern"];
    let closed = |mode: u32, file: u32| {
        set_mode(&env, ".lantern/ledger.db", file);
        set_mode(&env, ".lantern/lock", file);
        all.iter().for_each(|folder| set_mode(&env, folder, mode));
    };
    closed(0o555, 0o444);
    env.write("exports/linux/letters/en.txt", "Dear Aldous, the lighthouse is lit.");
    snapshot!(as_anybody(&env, &["prepare"]).whole(), @"
    ------- stderr -------
    error: could not open FOLDER/.lantern/lock
      why: Permission denied (os error 13)
      fix: give yourself permission, then run the same command again
    [exit status: 6]
    ");
    as_anybody(&env, &["check"]).success();
    closed(0o755, 0o644);
    as_anybody(&env, &["prepare"]).success();
    std::fs::remove_dir_all(env.path(".lantern")).unwrap();
    set_mode(&env, ".", 0o555);
    snapshot!(as_anybody(&env, &["prepare"]).whole(), @"
    ------- stderr -------
    error: could not make the folder FOLDER/.lantern
      why: Permission denied (os error 13)
      fix: give yourself permission, then run the same command again
    [exit status: 6]
    ");
    set_mode(&env, ".", 0o755);
}

/// An engine that is still writing: files come, go and change under our hands.
#[test]
fn an_export_that_will_not_keep_still() {
    let env = TestEnv::new();
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut i = 0_u64;
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                i += 1;
                env.write("exports/linux/letters/en.txt", &format!("Dear Wren, letter {i}\n").repeat(i as usize % 50));
                env.write(&format!("exports/linux/spare/{}.txt", i % 7), "soon gone");
                let _ = std::fs::remove_file(env.path(&format!("exports/linux/spare/{}.txt", (i + 3) % 7)));
                let _ = std::fs::remove_dir_all(env.path("exports/linux/spare").join(format!("{}", i % 3)));
                env.write(&format!("exports/linux/spare/{}/deep.txt", i % 3), "soon gone");
            }
        });
        for _ in 0..crate::env::rounds(40) {
            let ran = env.lantern(&["prepare"]);
            match ran.code() {
                0 => {}
                1 | 6 => assert!(ran.stderr().contains("has finished writing"), "{}", ran.whole()),
                _ => panic!("{}", ran.whole()),
            }
        }
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
    });
    env.lantern(&["prepare"]).success();
    env.lantern(&["verify"]).success();
}

#[cfg(unix)]
#[test]
fn sockets_and_devices() {
    let env = TestEnv::new();
    let _socket = std::os::unix::net::UnixListener::bind(env.path("exports/linux/socket")).unwrap();
    let stderr = env.lantern(&["prepare"]).fails(1).stderr();
    assert!(stderr.contains("socket is neither a file nor a folder nor a link (special-file)"), "{stderr}");
    // What a tape archive says of devices and pipes, POSIX ustar's types 3, 4 and 6.
    for kind in [b'3', b'4', b'6'] {
        let mut tar = lantern_formats::tar::write::TarWriter::new(Vec::new());
        tar.file("null", 0o644, 0, |_| Ok(())).unwrap();
        let mut bytes = tar.finish().unwrap();
        bytes[156] = kind;
        let sum: u32 = bytes[..512]
            .iter()
            .enumerate()
            .map(|(i, b)| if (148..156).contains(&i) { 32 } else { u32::from(*b) })
            .sum();
        bytes[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
        std::fs::write(env.path("hostile.tar"), &bytes).unwrap();
        env.write("lantern.toml", &env.config("1.3.2").replace("exports/linux", "hostile.tar"));
        let stderr = env.lantern(&["prepare"]).fails(1).stderr();
        assert!(stderr.contains("null is neither a file nor a folder nor a link (special-file)"), "{stderr}");
    }
}
