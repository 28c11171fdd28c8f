//! The system's clipboard, where it has one.

/// Opened when something is first copied, and kept: on some systems what was copied goes with the program that copied it.
#[derive(Default)]
pub struct Clipboard(Option<arboard::Clipboard>);

impl Clipboard {
    /// Whether there is one.
    pub fn is_there() -> bool {
        arboard::Clipboard::new().is_ok()
    }

    /// Copies a text; the error says why that is not possible here.
    pub fn set(&mut self, text: &str) -> Result<(), String> {
        if self.0.is_none() {
            self.0 = Some(arboard::Clipboard::new().map_err(|_| "there is no clipboard here".to_owned())?);
        }
        let open = self.0.as_mut().ok_or("there is no clipboard here")?;
        open.set_text(text).map_err(|error| error.to_string())
    }
}
