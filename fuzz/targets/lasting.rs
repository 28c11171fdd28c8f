#![no_main]
//! Events and records: whatever is read is written again as the very same text, and a record keeps its id.

use lantern_core::event::Event;
use lantern_core::release::ReleaseRecord;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(event) = std::str::from_utf8(bytes).map_err(drop).and_then(|text| Event::from_line(text).map_err(drop)) {
        let line = event.to_line();
        assert_eq!(Event::from_line(&line).expect("what was written is read").to_line(), line);
    }
    if let Ok(record) = ReleaseRecord::decode(bytes) {
        let again = ReleaseRecord::decode(&record.encode()).expect("what was written is read");
        assert_eq!(again.id(), record.id());
    }
});
