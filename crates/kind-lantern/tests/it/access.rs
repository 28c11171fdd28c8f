//! Connecting: wrong secrets, other storefronts, and where a secret may be found afterwards.

use crate::env::TestEnv;

#[test]
fn a_wrong_secret_is_told_before_anything_travels() {
    let env = TestEnv::new();
    let mut command = env.command(&["connect", "brambleyard", "--client", "paper-heron"]);
    let output = command.env("LANTERN_SECRET", "not-the-secret").output().unwrap();
    let stderr = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(3), "{stderr}");
    snapshot!(stderr, @"
    error: brambleyard: http://127.0.0.1:PORT does not accept this name and secret
      fix: copy name and secret again from the storefront's own pages, then: lantern connect brambleyard --client NAME
    ");
    assert!(!env.path("home").exists(), "nothing is kept");
}

#[test]
fn without_access_nothing_is_sent() {
    let env = TestEnv::new();
    env.lantern(&["prepare"]).success();
    snapshot!(env.lantern(&["push", "brambleyard", "--yes"]).whole(), @"
    ------- stderr -------
    error: brambleyard: there is no access to http://127.0.0.1:PORT on this computer
      fix: lantern connect brambleyard
    [exit status: 3]
    ");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   nothing yet
        no answer: there is no access to http://127.0.0.1:PORT on this computer

    next: lantern connect brambleyard
    ");
}

#[test]
fn a_missing_answer_names_its_option() {
    let env = TestEnv::new();
    let output = env.command(&["connect", "brambleyard"]).output().unwrap();
    assert!(String::from_utf8_lossy(&output.stderr).contains("--client"));
    let output =
        env.command(&["connect", "brambleyard", "--client", "x"]).env_remove("LANTERN_SECRET").output().unwrap();
    assert_eq!(output.status.code(), Some(7));
    assert!(String::from_utf8_lossy(&output.stderr).contains("LANTERN_SECRET"));
}

#[cfg(unix)]
#[test]
fn the_secret_lies_in_one_file_that_only_its_owner_can_read() {
    use std::os::unix::fs::PermissionsExt;
    let env = TestEnv::live();
    let secret = env.running().stand_in().secret().to_owned();
    let folder = env.path("home/access");
    let entries: Vec<_> = std::fs::read_dir(&folder).unwrap().map(|e| e.unwrap().path()).collect();
    assert_eq!(entries.len(), 1);
    assert!(std::fs::read_to_string(&entries[0]).unwrap().contains(&secret));
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&entries[0]), mode(&folder)), (0o600, 0o700));
    for (name, bytes) in crate::env::files(&env.path(".")) {
        assert!(
            !crate::env::holds(&bytes, &secret) || name.starts_with("home/") || name.starts_with("storefront/"),
            "{name} holds the secret"
        );
    }
}

#[test]
fn another_storefront_at_the_same_address_is_noticed() {
    let mut env = TestEnv::live();
    env.next_version();
    env.lantern(&["prepare"]).success();
    let port = env.close_storefront();
    std::fs::rename(env.path("storefront"), env.path("storefront-before")).unwrap();
    env.open_storefront(port);
    snapshot!(env.lantern(&["push", "brambleyard", "--yes"]).fails(3).whole(), @"
    ------- stderr -------
    error: the storefront at http://127.0.0.1:PORT is not the one you connected to
      fix: if the storefront was set up again, connect again and check what is there before you push
      fix: lantern connect brambleyard
    [exit status: 3]
    ");
}

#[test]
fn access_is_bound_to_the_address() {
    let env = TestEnv::live();
    env.edit("lantern.toml", "127.0.0.1", "localhost");
    let stderr = env.lantern(&["push", "brambleyard"]).fails(3).stderr();
    assert!(stderr.contains("no access"), "{stderr}");
}

#[test]
fn titles_and_depots_must_be_made_first() {
    let env = TestEnv::new();
    env.edit("lantern.toml", "\"saltmarsh-post\"", "\"saltmarsh\"");
    snapshot!(env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).whole(), @r#"
    ------- stderr -------
    error: brambleyard: there is no title "saltmarsh" here
      fix: make the title first, or fix the handle in lantern.toml
    [exit status: 3]
    "#);
    env.write("lantern.toml", &env.config("1.3.2"));
    env.edit("lantern.toml", "\"sp-linux\"", "\"sp-lin\"");
    snapshot!(env.lantern(&["connect", "brambleyard", "--client", "paper-heron"]).whole(), @r#"
    ------- stderr -------
    error: brambleyard has no depot "sp-lin" in the title "saltmarsh-post"
      fix: create the depot at the storefront, or fix its handle in lantern.toml
    [exit status: 2]
    "#);
}

#[test]
fn a_storefront_that_is_not_there() {
    let mut env = TestEnv::live();
    env.close_storefront();
    let ran = env.lantern(&["push", "brambleyard", "--yes"]).fails(4);
    assert!(
        ran.stderr().contains("could not be reached") && ran.stderr().contains("lantern rehearse"),
        "{}",
        ran.stderr()
    );
    let document = env.lantern(&["live", "--json"]).success().json();
    let storefront = &document["storefronts"][0];
    assert_eq!(storefront["answered_now"], false);
    assert_eq!(storefront["branches"][0]["targets"]["linux"]["version"], "1.3.2");
    snapshot!(env.lantern(&["live"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:04 by paper-heron, number there 1
        no answer: http://127.0.0.1:PORT could not be reached, last known
                   2026-11-27 10:04

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
    snapshot!(env.lantern(&["live", "--offline"]).whole(), @"
    Saltmarsh Post

      brambleyard   newest sealed: 1.3.2 (1)
        open-water   1.3.2 (1)   newest
                     linux
                     since 2026-11-27 10:04 by paper-heron, number there 1
        not asked, last known 2026-11-27 10:04

    next: lantern install brambleyard open-water DIR   gets it as a player does
    ");
}

#[test]
fn the_storefront_survives_a_restart() {
    let mut env = TestEnv::live();
    let port = env.close_storefront();
    env.open_storefront(port);
    assert_eq!(env.on_branch(), "1.3.2 (1) build 1 revision 1");
    env.next_version();
    env.release("1.4.0 (2)");
    assert_eq!(env.on_branch(), "1.4.0 (2) build 2 revision 2");
}
