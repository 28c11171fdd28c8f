use super::*;

#[test]
fn an_event_id_is_a_uuid_of_version_seven() {
    let at: Timestamp = "2026-11-23T09:00:00Z".parse().unwrap();
    let id = EventId::new(at, [0xff; 10]);
    assert_eq!(id.to_string(), "01a207a2-3280-7fff-bfff-ffffffffffff");
    assert_eq!(id.to_string().parse(), Ok(id));
    let later = EventId::new(at + jiff::SignedDuration::from_millis(1), [0; 10]);
    assert!(id < later);
    for bad in ["", "01a207a232807fffbfffffffffffffff", "01A207A2-3280-7fff-bfff-ffffffffffff", "zz"] {
        assert!(bad.parse::<EventId>().is_err(), "{bad:?}");
    }
}

#[test]
fn a_line_is_the_same_everywhere() {
    let name = "1.3.2 (25)".parse().unwrap();
    let (release, input) = (ReleaseId::of(b"r"), InputDigest::of(b"i"));
    let sealed = Sealed { warnings: 2, ..Sealed::new(release, name, input, vec!["linux".parse().unwrap()]) };
    let at: Timestamp = "2026-11-23T09:00:00Z".parse().unwrap();
    let event = Event::sample(EventId::new(at, [7; 10]), EventBody::Sealed(sealed));
    let expected = concat!(
        r#"{"id":"01a207a2-3280-7707-8707-070707070707","device":"desk","sequence":1,"predecessor":null,"#,
        r#""actor":"wren","recorded_at":"1970-01-01T00:00:00Z","happened_at":null,"revision":null,"#,
        r#""edition":"full","kind":"sealed","version":1,"payload":{"#,
        r#""input":"blake3:8ea6018616abc10faad558460705e8440862c8b4a8fefd0c223fe6bbd11bfb63","number":25,"#,
        r#""release":"blake3:1557c48ca865bfa1f7d6fc654c910d54816f53f512e9e63d84b239c55082e88a","#,
        r#""targets":["linux"],"version":"1.3.2","warnings":2}}"#
    );
    assert_eq!(event.to_line(), expected);
    assert_eq!(Event::from_line(&event.to_line()).unwrap(), event);
}

#[test]
fn an_action_of_a_newer_lantern_is_kept() {
    let text = r#"{"key":"01a207a2-3280-7fff-bfff-ffffffffffff","storefront":{"id":"b","name":"yard","handle":"h"},
        "action":{"share":{"percent":10}},"release":"RELEASE","version":"1.4.0","number":27}"#;
    let text = text.replace("RELEASE", &ReleaseId::of(b"r").to_string());
    let body = EventBody::read("asked", 1, &text).unwrap();
    let EventBody::Asked(asked) = &body else { panic!("{body:?}") };
    assert_eq!(asked.action, Action::Other(serde_json::json!({ "share": { "percent": 10 } })));
    assert!(body.payload().contains(r#""action":{"share":{"percent":10}}"#), "{}", body.payload());
    let other = body.payload().replace(":10}", ":5.333333333333333e43}");
    let again = EventBody::read("asked", 1, &other).unwrap().payload();
    assert_eq!(again, EventBody::read("asked", 1, &again).unwrap().payload(), "a number does not drift");
}

#[test]
fn unknown_kinds_are_kept() {
    // Numbers that nobody here can hold, a name twice, spaces: nothing of it is ours to change.
    let payload = r#"{"z": 53333333333333333333333333333333333333768875, "moon":1.0, "moon":"full"}"#;
    let body = EventBody::read("share-raised", 1, payload).unwrap();
    assert_eq!((body.kind(), body.version(), body.payload().as_str()), ("share-raised", 1, payload));
    let newer = EventBody::read("sealed", 2, payload).unwrap();
    assert_eq!((newer.kind(), newer.version(), newer.payload().as_str()), ("sealed", 2, payload));
    assert!(EventBody::read("sealed", 1, payload).is_err());
    let event = Event::sample(EventId::new(Timestamp::UNIX_EPOCH, [7; 10]), body);
    let line = event.to_line();
    assert!(line.ends_with(&format!("{payload}}}")), "{line}");
    assert_eq!(Event::from_line(&line).unwrap(), event);
    let lines = line.replace(r#""z": "#, "\"z\":\n");
    assert!(matches!(Event::from_line(&lines), Err(EventError::Lines)));
}
