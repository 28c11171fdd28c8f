use super::memory_log::MemoryLog;
use super::*;
use lantern_core::digest::InputDigest;
use lantern_core::event::NumberReserved;
use lantern_core::version::BuildNumber;

fn origin(n: u8) -> Origin {
    Origin { at: "2026-11-23T09:00:00Z".parse().unwrap(), random: [n; 10], actor: "wren".into() }
}

fn reserve(number: u64) -> EventBody {
    let number = BuildNumber::new(number).unwrap();
    EventBody::NumberReserved(NumberReserved { number, input: InputDigest::of(b"x") })
}

struct Scene {
    temp: tempfile::TempDir,
}

impl Scene {
    fn new() -> Self {
        Self { temp: tempfile::tempdir().unwrap() }
    }
    fn path(&self) -> PathBuf {
        self.temp.path().join("ledger.db")
    }
    fn open(&self) -> Result<Ledger, LedgerError> {
        Ledger::open(&self.path(), [7; 16])
    }
    fn with_events(count: u8) -> Self {
        let scene = Self::new();
        let mut ledger = scene.open().unwrap();
        for n in 1..=count {
            ledger.append(None, &Name::full_edition(), origin(n), None, reserve(u64::from(n))).unwrap();
        }
        scene
    }
    fn sql(&self, text: &str) {
        Connection::open(self.path()).unwrap().execute_batch(text).unwrap();
    }
}

#[test]
fn events_come_back_in_order_and_chained() {
    let scene = Scene::with_events(3);
    let events = scene.open().unwrap().events().unwrap();
    let sequences: Vec<u64> = events.iter().map(|e| e.sequence).collect();
    assert_eq!(sequences, [1, 2, 3]);
    assert_eq!(events[0].predecessor, None);
    assert_eq!(events[1].predecessor, Some(Digest::of(events[0].to_line().as_bytes())));
    assert!(events.iter().all(|e| e.device == events[0].device));
}

#[test]
fn a_removed_or_changed_event_is_noticed() {
    for damage in [
        "DELETE FROM events WHERE position = 2",
        "UPDATE events SET line = replace(line, 'wren', 'crow') WHERE position = 1",
    ] {
        let scene = Scene::with_events(3);
        scene.sql(damage);
        assert!(matches!(scene.open().unwrap().events(), Err(LedgerError::Chain { .. })), "{damage}");
    }
    let scene = Scene::with_events(1);
    scene.sql("UPDATE events SET line = '{}'");
    assert!(matches!(scene.open().unwrap().events(), Err(LedgerError::Event { position: 1, .. })));
}

#[test]
fn migrations_that_changed_or_are_newer_are_refused() {
    let scene = Scene::with_events(1);
    scene.sql("INSERT INTO migrations VALUES ('29990101000000_moon', 'blake3:00')");
    assert!(matches!(scene.open(), Err(LedgerError::Newer { .. })));
    let scene = Scene::with_events(1);
    scene.sql("UPDATE migrations SET digest = 'blake3:00'");
    assert!(matches!(scene.open(), Err(LedgerError::Changed { .. })));
}

#[test]
fn what_is_no_database_is_refused() {
    let scene = Scene::new();
    std::fs::write(scene.path(), "not a database, and long enough to be sure of it".repeat(40)).unwrap();
    assert!(scene.open().is_err());
}

#[test]
fn unknown_kinds_are_kept_to_the_byte() {
    let scene = Scene::new();
    let mut ledger = scene.open().unwrap();
    let payload = r#"{ "z": 53333333333333333333333333333333333333768875, "moon": 1.50 }"#.to_owned();
    let body = EventBody::Other { kind: "moon".into(), version: 9, payload };
    let event = ledger.append(None, &Name::full_edition(), origin(1), None, body).unwrap();
    ledger.append(None, &Name::full_edition(), origin(2), None, reserve(1)).unwrap();
    assert_eq!(ledger.events().unwrap()[0], event);
}

#[test]
fn two_ledgers_on_one_file_do_not_lose_events() {
    // The file is made by all of them at once, too.
    let scene = Scene::new();
    std::thread::scope(|scope| {
        for thread in 0..4_u8 {
            let scene = &scene;
            scope.spawn(move || {
                let mut ledger = scene.open().unwrap();
                for n in 0..10 {
                    ledger.append(None, &Name::full_edition(), origin(thread * 10 + n), None, reserve(1)).unwrap();
                }
            });
        }
    });
    assert_eq!(scene.open().unwrap().events().unwrap().len(), 40);
}

#[test]
fn when_a_storefront_was_heard() {
    let mut ledger = Scene::new().open().unwrap();
    assert_eq!(ledger.heard("brambleyard-1").unwrap(), None);
    for at in ["2026-11-23T09:00:00Z", "2026-11-23T10:00:00Z"] {
        ledger.note_heard("brambleyard-1", at.parse().unwrap()).unwrap();
        assert_eq!(ledger.heard("brambleyard-1").unwrap().unwrap().to_string(), at);
    }
}

#[test]
fn lines_travel_from_one_ledger_to_another() {
    let (one, other) = (Scene::with_events(3), Scene::new());
    let lines: Vec<String> = one.open().unwrap().lines().unwrap().into_iter().map(|(_, line)| line).collect();
    let mut ledger = Ledger::open(&other.path(), [9; 16]).unwrap();
    ledger.append(None, &Name::full_edition(), origin(9), None, reserve(9)).unwrap();
    assert_eq!(ledger.add_lines(&lines[..2]).unwrap(), 2);
    assert_eq!(ledger.add_lines(&lines).unwrap(), 1, "what is there is passed over");
    assert_eq!(ledger.events().unwrap().len(), 4);
    let device = one.open().unwrap().device().to_owned();
    assert_eq!(ledger.line_of(&device, 2).unwrap().as_ref(), Some(&lines[1]));
    assert_eq!(ledger.line_of(&device, 4).unwrap(), None);
}

#[test]
fn lines_that_do_not_fit_are_refused_and_nothing_is_added() {
    let (one, other) = (Scene::with_events(3), Scene::new());
    let lines: Vec<String> = one.open().unwrap().lines().unwrap().into_iter().map(|(_, line)| line).collect();
    let mut ledger = Ledger::open(&other.path(), [9; 16]).unwrap();
    let changed = lines[1].replace("wren", "crow");
    for wrong in [
        vec![lines[0].clone(), lines[2].clone()],
        vec![lines[1].clone()],
        vec![lines[0].clone(), changed.clone(), lines[2].clone()],
        vec![lines[0].clone(), "{}".to_owned()],
    ] {
        let error = ledger.add_lines(&wrong).unwrap_err();
        assert!(matches!(error, LedgerError::Foreign { .. }), "{error:?}");
        assert!(ledger.events().unwrap().is_empty());
    }
    ledger.add_lines(&lines).unwrap();
    assert!(ledger.add_lines(&[lines[0].clone(), changed]).is_err(), "another line in the place of one that is here");
}

#[test]
fn what_can_be_read_of_a_damaged_ledger_is_saved() {
    let scene = Scene::with_events(5);
    scene.sql("UPDATE events SET line = replace(line, 'wren', 'crow') WHERE position = 4");
    assert_eq!(salvage(&scene.path()).len(), 4, "the changed one follows; the one behind it does not");
    std::fs::write(scene.path(), "no database").unwrap();
    assert!(salvage(&scene.path()).is_empty());
    assert!(salvage(&scene.temp.path().join("nothing.db")).is_empty());
}

#[cfg(unix)]
#[test]
fn a_ledger_is_read_where_nothing_can_be_written() {
    use std::os::unix::fs::PermissionsExt;
    let scene = Scene::with_events(2);
    let folder = scene.temp.path();
    let refused = LedgerError::Newer { migration: "why".to_owned() };
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o500)).unwrap();
    let mut ledger = Ledger::open_to_read(&scene.path(), refused).unwrap();
    assert_eq!((ledger.events().unwrap().len(), ledger.is_read_only()), (2, true));
    let before = std::fs::read_dir(folder).unwrap().count();
    for _ in 0..2 {
        let error = ledger.append(None, &Name::full_edition(), origin(3), None, reserve(3)).unwrap_err();
        assert!(
            matches!(&error, LedgerError::ReadOnly(why) if matches!(**why, LedgerError::Newer { .. })),
            "{error:?}"
        );
    }
    ledger.note_heard("brambleyard-1", origin(1).at).unwrap();
    assert_eq!(std::fs::read_dir(folder).unwrap().count(), before, "nothing was written beside it");
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o700)).unwrap();
}

#[test]
fn the_suite_of_every_log() {
    let folders = std::cell::RefCell::new(Vec::new());
    // A ledger that was opened before is found by its file.
    let open = |before: Option<&Ledger>| match before {
        Some(ledger) => {
            let path: String = ledger.connection.path().unwrap().to_owned();
            Ledger::open(Path::new(&path), [7; 16]).unwrap()
        }
        None => {
            let scene = Scene::new();
            let ledger = scene.open().unwrap();
            folders.borrow_mut().push(scene);
            ledger
        }
    };
    assert_eq!(conformance::run(open), Ok(()));
    assert_eq!(conformance::run(|before: Option<&MemoryLog>| before.cloned().unwrap_or_default()), Ok(()));
}

#[test]
fn the_suite_notices_what_is_otherwise() {
    // Each opening is a log of its own: what one wrote the other does not see.
    let failed = conformance::run(|_: Option<&MemoryLog>| MemoryLog::default());
    assert_eq!(failed, Err("what was appended is not there when it is opened again".to_owned()));
}

#[test]
fn what_errors_come_to() {
    let scene = Scene::with_events(3);
    scene.sql("DELETE FROM events WHERE position = 2");
    assert_eq!(scene.open().unwrap().events().unwrap_err().outcome(), Outcome::Damaged);
    scene.sql("INSERT INTO migrations VALUES ('29990101000000_moon', 'blake3:00')");
    assert_eq!(scene.open().unwrap_err().outcome(), Outcome::OtherVersion);
    assert_eq!(LedgerError::Conflict.outcome(), Outcome::Conflict);
}
