#![no_main]
//! The configuration, and documents of a storefront: each mistake has its place and its fix.

use lantern_core::config::Config;
use lantern_core::rules::HouseRules;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    if let Err(findings) = Config::read("lantern.toml", text) {
        assert!(!findings.is_empty() && findings.iter().all(|finding| finding.fix.is_some()), "{findings:?}");
    }
    if let Ok(rules) = serde_json::from_str::<HouseRules>(text) {
        let written = serde_json::to_string(&rules).expect("rules have only string keys");
        let again: HouseRules = serde_json::from_str(&written).expect("what was written is read");
        assert_eq!(again.not_understood(), rules.not_understood());
    }
    let _ = serde_json::from_str::<lantern_storefront::protocol::Discovery>(text);
});
