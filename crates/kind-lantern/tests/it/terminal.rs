//! The program at a terminal, with someone who answers.

use std::fs::File;
use std::io::{Read, Write};
use std::process::{Child, Command};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::Duration;

use rustix::process::{Pid, Signal, kill_process};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

use crate::by_hand;
use crate::env::TestEnv;

/// How long something may take that is waited for; a test that gets there has failed.
const AT_MOST: Duration = Duration::from_secs(60);

/// A program at a terminal of its own.
struct AtTerminal {
    child: Child,
    terminal: File,
    out: Receiver<Vec<u8>>,
    /// All that it showed.
    shown: String,
    /// As far as it was waited for.
    read: usize,
}

impl AtTerminal {
    fn start(mut command: Command) -> Self {
        let terminal = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&terminal).unwrap();
        unlockpt(&terminal).unwrap();
        let name = ptsname(&terminal, Vec::new()).unwrap().into_string().unwrap();
        let side = || File::options().read(true).write(true).open(&name).unwrap();
        let child = command.env("NO_COLOR", "1").stdin(side()).stdout(side()).stderr(side()).spawn().unwrap();
        drop(command);
        let terminal = File::from(terminal);
        let mut from = terminal.try_clone().unwrap();
        let (to, out) = channel();
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            // Linux says so with an error when nobody holds the other side any more.
            while let Ok(len @ 1..) = from.read(&mut bytes) {
                if to.send(bytes[..len].to_vec()).is_err() {
                    return;
                }
            }
        });
        Self { child, terminal, out, shown: String::new(), read: 0 }
    }

    /// Waits until it asks this, and answers.
    fn answer(&mut self, question: &str, answer: &str) {
        self.wait_for(question);
        self.terminal.write_all(format!("{answer}\n").as_bytes()).unwrap();
    }

    /// Waits until it shows this, after what was waited for before.
    fn wait_for(&mut self, text: &str) {
        loop {
            if let Some(found) = self.shown[self.read..].find(text) {
                self.read += found + text.len();
                return;
            }
            match self.out.recv_timeout(AT_MOST) {
                Ok(bytes) => self.shown += &String::from_utf8_lossy(&bytes).replace('\r', ""),
                Err(_) => panic!("it never said {text:?}: {}", self.shown),
            }
        }
    }

    /// Presses Ctrl-C at this question.
    fn stop_at(&mut self, question: &str) {
        self.wait_for(question);
        kill_process(Pid::from_child(&self.child), Signal::INT).unwrap();
    }

    fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// Waits for its end, and returns its exit code and all that it showed.
    fn end(mut self) -> (i32, String) {
        loop {
            match self.out.recv_timeout(AT_MOST) {
                Ok(bytes) => self.shown += &String::from_utf8_lossy(&bytes).replace('\r', ""),
                Err(RecvTimeoutError::Disconnected) => break,
                Err(RecvTimeoutError::Timeout) => panic!("it does not end: {}", self.shown),
            }
        }
        (self.child.wait().unwrap().code().unwrap_or(-1), self.shown)
    }
}

/// A person is led through the steps; killed, stopped and paused at each of them, they go on there.
#[test]
fn the_steps_go_on_where_they_were_whatever_ended_them() {
    let env = by_hand::env();
    let again = || AtTerminal::start(env.command(&["confirm", "old-pier"]));
    let mut first = AtTerminal::start(env.command(&["push", "old-pier"]));
    first.answer("Go on?", "y");
    first.wait_for("done, skip or pause");
    first.kill();
    for (step, question, answers) in [
        ("carry", "done, skip or pause", &[][..]),
        ("letter", "done, back, skip or pause", &[("berth number", "not known yet"), ("berth number", "12")]),
    ] {
        for how in ["kill", "stop", "pause"] {
            let mut walk = again();
            walk.wait_for(step);
            match how {
                "kill" => {
                    walk.wait_for(question);
                    walk.kill();
                }
                "stop" => {
                    walk.stop_at(question);
                    assert_eq!(walk.end().0, 130);
                }
                _ => {
                    walk.answer(question, "what");
                    walk.answer(question, "p");
                    let (code, shown) = walk.end();
                    assert!(code == 0 && shown.contains("paused before step"), "{shown}");
                }
            }
        }
        let mut walk = again();
        walk.answer(question, "d");
        for (question, answer) in answers {
            walk.answer(question, answer);
        }
        if step == "carry" {
            // Back once, and there again.
            walk.answer("done, back, skip or pause", "back");
            walk.answer("done, skip or pause", "skip");
            walk.answer("Why is it left out?", "");
            walk.answer("done, skip or pause", "skip");
            walk.answer("Why is it left out?", "they came by");
            walk.answer("done, back, skip or pause", "pause");
        }
        let (code, shown) = walk.end();
        assert_eq!(code, 0, "{shown}");
    }
    let live = env.lantern(&["history", "--storefront", "old-pier", "--all"]).success().stdout();
    assert!(live.contains("they came by") && live.contains("brought 1.3.2 (1) to old-pier, number there 12"), "{live}");
    assert_eq!(env.event_kinds().iter().filter(|kind| *kind == "steps-begun").count(), 1);
}

#[test]
fn init_asks_and_loses_nothing_when_it_is_stopped() {
    let env = TestEnv::without_storefront();
    let mut first = AtTerminal::start(env.command(&["init"]));
    first.answer("The game's name:", "");
    first.answer("The game's name:", "Saltmarsh Post");
    first.answer("Who makes it:", "Paper Heron");
    first.stop_at("Its identity:");
    let (code, shown) = first.end();
    assert_eq!(code, 130, "{shown}");
    assert!(shown.contains("something has to stand here") && !env.path("lantern.toml").exists(), "{shown}");
    let mut second = AtTerminal::start(env.command(&["init"]));
    second.answer("The game's name [Saltmarsh Post]:", "");
    second.answer("Who makes it [Paper Heron]:", "Paper Heron Games");
    second.answer("Its identity:", "com.example.game");
    second.answer("Its identity:", "example.paperheron.saltmarsh");
    second.answer("Its version:", "one point three");
    second.answer("Its version:", "1.3.2");
    let (code, shown) = second.end();
    assert_eq!(code, 0, "{shown}");
    assert!(shown.contains("is what templates have; take your own domain, backwards"), "{shown}");
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    assert!(text.contains("name = \"Saltmarsh Post\"") && text.contains("studio = \"Paper Heron Games\""), "{text}");
    assert!(!env.path(".lantern/init.json").exists());
    env.lantern(&["check"]).success();
}

/// Answers of before that cannot be read are asked for again, and so is an export where several could be meant.
#[test]
fn init_asks_for_what_it_cannot_see() {
    let env = TestEnv::without_storefront();
    crate::env::copy(&env.path("exports/linux"), &env.path("exports/older"));
    env.lantern(&["init"]).fails(7);
    env.write(".lantern/.gitignore", "*");
    env.write(".lantern/init.json", "{\"name\": 7");
    let mut asked = AtTerminal::start(env.command(&["init"]));
    asked.answer("The export:", "");
    asked.answer("The export:", "exports/oldest");
    asked.answer("The export:", "exports/older");
    asked.answer("The game's name:", "Saltmarsh Post");
    asked.answer("Who makes it:", "Paper Heron");
    asked.answer("Its identity:", "example.paperheron.saltmarsh");
    asked.answer("Its version:", "1.3.2");
    let (code, shown) = asked.end();
    assert_eq!(code, 0, "{shown}");
    let text = String::from_utf8(env.read("lantern.toml")).unwrap();
    assert!(text.contains("exports/older") && !text.contains("exports/linux"), "{text}");
}
