#![no_main]
//! Signs what it is given as a program for macOS or iOS, ad hoc, and writes a version into it as into an `Info.plist`.

use std::io::{self, Cursor, Read};

use lantern_core::progress::Silent;
use lantern_formats::bundle::ReadSeek;
use lantern_sign::SignError;
use lantern_sign::macho::{self, Code, Entitlements, Source};

struct Bytes<'a>(&'a [u8]);

impl Source for Bytes<'_> {
    fn anywhere(&self) -> io::Result<Box<dyn ReadSeek + '_>> {
        Ok(Box::new(Cursor::new(self.0)))
    }

    fn whole(&self) -> io::Result<Box<dyn Read + Send + '_>> {
        Ok(Box::new(self.0))
    }
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = Entitlements::read(bytes);
    let to = std::env::temp_dir().join(format!("lantern-fuzz-{}", std::process::id()));
    let code = Code { identifier: "example.paperheron.saltmarsh", ..Code::default() };
    match macho::sign(&Bytes(bytes), &to, &code, None, &Silent) {
        Ok(_) | Err(SignError::Refused { .. } | SignError::NotValid(_) | SignError::Io(_)) => {}
        Err(other) => panic!("{other}"),
    }
});
