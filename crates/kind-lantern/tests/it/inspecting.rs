//! What files and folders are, without any project.

use lantern_core::digest::Digest;
use lantern_core::system::System;
use lantern_rehearsal::exports::{self, GameVersion};

use crate::env::{TestEnv, rounds};

fn all_exports() -> TestEnv {
    let env = TestEnv::without_storefront();
    std::fs::remove_dir_all(env.path("exports")).unwrap();
    exports::write_all(&env.path("exports"), GameVersion::Old, System::LinuxX86_64).unwrap();
    env
}

#[test]
fn one_thing_at_a_time() {
    let env = all_exports();
    let inspect = |path: &str| env.lantern(&["inspect", path]).success().whole();
    snapshot!(inspect("exports/windows"), @"
    exports/windows  a folder for windows-x86_64

      starts      Saltmarsh Post.exe
      size        12 files, 10.7 MB
      signature   none
      opens       a console window

      warning: Saltmarsh Post.exe is not signed: Windows warns everyone who downloads and starts it (unsigned)
      fix: sign it, as the very last step

      warning: Saltmarsh Post.exe has no icon (no-icon)
      fix: set one in the engine and export again
    ");
    snapshot!(inspect("exports/macos"), @"
    exports/macos  a folder for macos-universal

      name        Saltmarsh Post
      identity    example.paperheron.saltmarsh
      version     1.3.2
      number      1.3.2
      starts      Saltmarsh Post.app/Contents/MacOS/saltmarsh
      needs       macOS 11.0
      size        12 files, 10.4 MB
      signature   none

      warning: Saltmarsh Post.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Saltmarsh Post.app/Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
      fix: sign it, ad hoc at least
    ");
    snapshot!(inspect("exports/macos/Saltmarsh Post.app"), @"
    exports/macos/Saltmarsh Post.app  a bundle for macos-universal

      name        Saltmarsh Post
      identity    example.paperheron.saltmarsh
      version     1.3.2
      number      1.3.2
      starts      Contents/MacOS/saltmarsh
      needs       macOS 11.0
      size        9 files, 8.62 MB
      signature   none

      warning: Saltmarsh Post.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Contents/MacOS/saltmarsh is not signed at all: Macs with Apple silicon do not start it (unsigned)
      fix: sign it, ad hoc at least
    ");
    snapshot!(inspect("exports/saltmarsh-headset.apk"), @"
    exports/saltmarsh-headset.apk  an Android package for headset

      identity     example.paperheron.saltmarsh
      version      1.3.2
      number       25
      starts       example.paperheron.saltmarsh.Main
      needs        API level 26
      size         5 files, 2.00 MB
      signature    none
      made for     API level 35
      requires     headtracking
      processors   arm64-v8a

      warning: the package has no icon (no-icon)
      fix: set one in the engine and export again

      warning: lib/arm64-v8a/libsaltmarsh.so is not aligned to 16 KB: devices with large pages do not start it (unaligned-library)
      fix: align it when the package is packed; newer engines do it

      warning: the package is not signed: no device accepts it (unsigned)
      fix: export it signed with the game's own key, or have it signed here: lantern key --help
    ");
    snapshot!(inspect("exports/saltmarsh.ipa"), @"
    exports/saltmarsh.ipa  an iOS package for ios

      name        Saltmarsh Post
      identity    example.paperheron.saltmarsh
      version     1.3.2
      number      25
      starts      Payload/SaltmarshPost.app/SaltmarshPost
      needs       iOS 15.0
      size        4 files, 717 kB, 356 kB packed
      signature   none

      warning: SaltmarshPost.app has no icon (no-icon)
      fix: set one in the engine and export again

      warning: Payload/SaltmarshPost.app/SaltmarshPost is not signed: no device accepts it (unsigned)
      fix: export it with your team's profile
    ");
    snapshot!(inspect("exports/linux/saltmarsh"), @"
    exports/linux/saltmarsh  a program for linux-x86_64

      size        1 file, 213 B
      processor   x86_64
      libraries   none: it is linked as a whole
    ");
}

#[test]
fn several_side_by_side() {
    let env = all_exports();
    exports::write_all(&env.path("new"), GameVersion::New, System::LinuxX86_64).unwrap();
    let ran = env.lantern(&["inspect", "exports/saltmarsh.apk", "exports/saltmarsh.ipa", "exports/web.zip"]).success();
    snapshot!(ran.stdout().lines().take(12).collect::<Vec<_>>().join("\n"), @"
    exports/saltmarsh.apk
    warning: the package has no icon (no-icon)
    fix: set one in the engine and export again

    warning: lib/arm64-v8a/libsaltmarsh.so is not aligned to 16 KB: devices with large pages do not start it (unaligned-library)
    fix: align it when the package is packed; newer engines do it

    warning: the package is not signed: no device accepts it (unsigned)
    fix: export it signed with the game's own key, or have it signed here: lantern key --help

    exports/saltmarsh.ipa
    warning: SaltmarshPost.app has no icon (no-icon)
    ");
    // The forgotten one is seen at once.
    let ran = env.lantern(&["inspect", "new/macos", "exports/saltmarsh.apk"]).success().stdout();
    assert!(ran.contains("version differs: 1.3.2, 1.4.0"), "{ran}");
    let document = env.lantern(&["inspect", "new/macos", "exports/linux", "--json"]).success().json();
    let things = document["things"].as_array().unwrap();
    assert_eq!((&things[0]["version"], &things[0]["number"]), (&"1.4.0".into(), &"1.4.0".into()));
    assert_eq!(things[1]["signature"]["kind"], "not-usual");
}

#[test]
fn what_cannot_be_looked_at() {
    let env = all_exports();
    std::fs::write(env.path("cut.zip"), &env.read("exports/web.zip")[..1000]).unwrap();
    std::fs::write(env.path("letter.txt"), "Dear Wren").unwrap();
    snapshot!(env.lantern(&["inspect", "nowhere"]).whole(), @"
    nowhere  cannot be inspected

      error: nowhere cannot be read: No such file or directory (os error 2) (unreadable)
      fix: name a file or folder that is there
    [exit status: 1]
    ");
    snapshot!(env.lantern(&["inspect", "cut.zip", "letter.txt"]).whole(), @"
      cut.zip
      error: cut.zip: not a ZIP archive, or it is cut off: the directory at its end is missing (bad-archive)
      fix: export or pack it again

                   for                   version   size   signature
      cut.zip      cannot be inspected
      letter.txt   a file                –         9 B    –
    [exit status: 1]
    ");
    std::fs::create_dir(env.path("empty")).unwrap();
    assert!(env.lantern(&["inspect", "empty"]).success().stdout().contains("(no-start)"));
    env.lantern(&["inspect"]).fails(2);
    let document = env.lantern(&["inspect", "nowhere", "--json"]).fails(1).json();
    assert_eq!(document["things"][0]["findings"][0]["code"], "unreadable");
}

#[cfg(unix)]
#[test]
fn a_pipe_is_not_waited_for() {
    let env = TestEnv::without_storefront();
    assert!(std::process::Command::new("mkfifo").arg(env.path("pipe")).status().unwrap().success());
    let stdout = env.lantern(&["inspect", "pipe"]).fails(1).stdout();
    assert!(stdout.contains("neither a file nor a folder"), "{stdout}");
}

/// Every reader meets bytes that nobody would write on purpose; whatever it says, it says it soon and calmly.
#[test]
fn changed_bytes_do_no_harm() {
    let env = all_exports();
    let things = [
        ("exports/windows/Saltmarsh Post.exe", "windows.exe"),
        ("exports/macos/Saltmarsh Post.app/Contents/MacOS/saltmarsh", "macos"),
        ("exports/macos/Saltmarsh Post.app/Contents/Info.plist", "Info.plist"),
        ("exports/linux/saltmarsh", "linux"),
        ("exports/saltmarsh.apk", "changed.apk"),
        ("exports/saltmarsh.ipa", "changed.ipa"),
        ("exports/web.zip", "changed.zip"),
    ];
    for (from, to) in things {
        let good = env.read(from);
        for round in 0..rounds(60) {
            let digest = Digest::of(format!("{to} {round}").as_bytes());
            let number = |at: usize| u64::from_le_bytes(digest.as_bytes()[at..at + 8].try_into().unwrap());
            let mut bytes = good.clone();
            // What is interesting lies at both ends.
            for change in 0..1 + round % 4 {
                let near = number(change as usize * 8 % 24) % bytes.len().min(2048) as u64;
                let at = if number(8) & 1 << change == 0 { near as usize } else { bytes.len() - 1 - near as usize };
                bytes[at] =
                    [0, 0xff, 0x80, digest.as_bytes()[change as usize]][(number(16) >> (change * 2) & 3) as usize];
            }
            if round % 5 == 0 {
                bytes.truncate(number(0) as usize % bytes.len());
            }
            std::fs::write(env.path(to), &bytes).unwrap();
            // An error is as good an answer as any.
            let _ = lantern_exports::inspect::inspect(
                &env.path(to),
                to,
                lantern_project::now(),
                &lantern_core::progress::Silent,
            );
        }
    }
}
