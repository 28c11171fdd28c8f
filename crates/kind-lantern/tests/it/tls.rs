//! A storefront behind TLS, and those who only pretend to be one.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};

use crate::env::{Ran, TestEnv};

/// Speaks TLS in front of a storefront, until it is dropped.
struct Front {
    child: Child,
    port: String,
}

impl Drop for Front {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn openssl(env: &TestEnv, arguments: &str) {
    let done = Command::new("openssl").args(arguments.split(' ')).current_dir(env.path("")).output().unwrap();
    assert!(done.status.success(), "{arguments}: {}", String::from_utf8_lossy(&done.stderr));
}

/// An authority, and a server's certificate of it with these names and days.
fn certificates(env: &TestEnv, names: &str, days: &str) {
    let key = "-newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes";
    openssl(env, &format!("req -x509 {key} -subj /CN=Marsh -days 30 -keyout ca.key -out ca.pem"));
    openssl(env, &format!("req {key} -subj /CN=Brambleyard -keyout server.key -out server.csr"));
    env.write("names", &format!("subjectAltName={names}\nextendedKeyUsage=serverAuth\nbasicConstraints=CA:FALSE\n"));
    openssl(
        env,
        &format!(
            "x509 -req -in server.csr -CA ca.pem -CAkey ca.key -CAcreateserial {days} -extfile names -out server.pem"
        ),
    );
}

fn plain_port(env: &TestEnv) -> String {
    env.running().origin().rsplit(':').next().unwrap().to_owned()
}

fn front(env: &TestEnv) -> Front {
    started(env, "tls.py", &["server.pem", "server.key", &plain_port(env)])
}

fn started(env: &TestEnv, script: &str, arguments: &[&str]) -> Front {
    let script = format!("{}/tests/it/samples/{script}", env!("CARGO_MANIFEST_DIR"));
    let mut child = Command::new("python3")
        .arg(script)
        .args(arguments)
        .current_dir(env.path(""))
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut port = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut port).unwrap();
    Front { child, port: port.trim().to_owned() }
}

fn behind_tls(names: &str, days: &str) -> (TestEnv, Front) {
    let env = TestEnv::new();
    certificates(&env, names, days);
    let front = front(&env);
    env.edit("lantern.toml", &env.running().origin(), &format!("https://localhost:{}", front.port));
    (env, front)
}

fn run(env: &TestEnv, trusts: &str, arguments: &[&str]) -> Ran {
    let mut command = env.command(arguments);
    // A storefront of the network may be asked through a proxy; here there is none.
    command.env("SSL_CERT_FILE", env.path(trusts)).env_remove("SSL_CERT_DIR").env("NO_PROXY", "localhost");
    Ran { output: command.output().unwrap() }
}

#[test]
fn the_whole_way_over_https() {
    let (env, _front) = behind_tls("DNS:localhost", "-days 30");
    run(&env, "ca.pem", &["connect", "brambleyard", "--client", "paper-heron"]).success();
    run(&env, "ca.pem", &["prepare"]).success();
    run(&env, "ca.pem", &["push", "brambleyard", "--yes"]).success();
    run(&env, "ca.pem", &["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    let live = run(&env, "ca.pem", &["live"]).success().stdout();
    assert!(live.contains("1.3.2"), "{live}");
    let shown = run(&env, "ca.pem", &["install", "brambleyard", "open-water", "player", "--target", "linux"]).success();
    assert!(shown.stdout().contains("installed Saltmarsh Post"), "{}", shown.whole());
}

#[test]
fn a_storefront_of_this_computer_may_lead_players_to_one_with_tls() {
    let env = TestEnv::new();
    env.connect();
    env.release("1.3.2 (1)");
    env.lantern(&["push", "brambleyard", "--yes"]).success();
    env.lantern(&["promote", "brambleyard", "open-water", "--confirm", "1.3.2 (1)"]).success();
    certificates(&env, "DNS:localhost", "-days 30");
    let front = front(&env);
    let leading = started(&env, "elsewhere.py", &[&plain_port(&env), &front.port]);
    env.edit("lantern.toml", &env.running().origin(), &format!("http://127.0.0.1:{}", leading.port));
    run(&env, "ca.pem", &["connect", "brambleyard", "--client", "paper-heron"]).success();
    let install = ["install", "brambleyard", "open-water", "player", "--target", "linux"];
    // Its certificate is looked at there, too.
    openssl(
        &env,
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=Stranger -keyout other.key -out other.pem",
    );
    let refused = run(&env, "other.pem", &install).fails(4).stderr();
    assert!(refused.contains("nobody that this computer trusts has signed it"), "{refused}");
    let shown = run(&env, "ca.pem", &install).success();
    assert!(shown.stdout().contains("installed Saltmarsh Post"), "{}", shown.whole());
}

#[test]
fn who_only_pretends_to_be_the_storefront_gets_nothing() {
    let connect = ["connect", "brambleyard", "--client", "paper-heron"];
    let refused = |env: &TestEnv, trusts: &str, why: &str| {
        let ran = run(env, trusts, &connect).fails(4);
        let text = ran.stderr();
        assert!(text.contains("has a certificate that is not taken") && text.contains(why), "{text}");
        assert!(text.contains("Nothing was sent"), "{text}");
    };
    let (env, front) = behind_tls("DNS:localhost", "-days 30");
    // An authority that nobody trusts here.
    openssl(
        &env,
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=Stranger -keyout other.key -out other.pem",
    );
    refused(&env, "other.pem", "nobody that this computer trusts has signed it");
    // Another name.
    env.edit(
        "lantern.toml",
        &format!("https://localhost:{}", front.port),
        &format!("https://127.0.0.1:{}", front.port),
    );
    refused(&env, "ca.pem", "it is for another name");
    // TLS to a server that speaks none, and none to one that does.
    let plain = plain_port(&env);
    env.edit("lantern.toml", &format!("https://127.0.0.1:{}", front.port), &format!("https://127.0.0.1:{plain}"));
    run(&env, "ca.pem", &connect).fails(4);
    env.edit("lantern.toml", &format!("https://127.0.0.1:{plain}"), &format!("http://127.0.0.1:{}", front.port));
    run(&env, "ca.pem", &connect).fails(4);
    // Expired as soon as it was made.
    let (env, _front) = behind_tls("DNS:localhost", "-days 0");
    std::thread::sleep(std::time::Duration::from_millis(1100));
    refused(&env, "ca.pem", "it has expired");
}
