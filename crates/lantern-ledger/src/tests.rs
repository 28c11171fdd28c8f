use super::*;
use lantern_core::digest::InputDigest;
use lantern_core::event::NumberReserved;
use lantern_core::version::BuildNumber;

fn stamp(n: u8) -> Stamp {
    Stamp { at: "2026-11-23T09:00:00Z".parse().unwrap(), random: [n; 10], actor: "wren".into() }
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
            ledger.append(&Name::full_edition(), stamp(n), None, reserve(u64::from(n))).unwrap();
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
    let payload = serde_json::json!({ "moon": 1.5, "z": [1, 2] });
    let body = EventBody::Other { kind: "moon".into(), version: 9, payload };
    let event = ledger.append(&Name::full_edition(), stamp(1), None, body).unwrap();
    ledger.append(&Name::full_edition(), stamp(2), None, reserve(1)).unwrap();
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
                    ledger.append(&Name::full_edition(), stamp(thread * 10 + n), None, reserve(1)).unwrap();
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
