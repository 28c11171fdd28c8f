//! Programs of every system, by one call.

use std::io::{Read, Seek};

pub use crate::machine::{Kind, Machine};

use crate::elf::Elf;
use crate::macho::MachO;
use crate::offset_reader::FormatError;
use crate::pe::Pe;

/// The system whose programs have this form.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Form {
    /// ELF: Linux.
    Elf,
    /// PE: Windows.
    Pe,
    /// Mach-O: macOS.
    MachO,
}

/// What a program of any system says about itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Program {
    /// Whose it is.
    pub form: Form,
    /// Program, library or something else.
    pub kind: Kind,
    /// The processors it was built for; several in a universal file. Big-endian ones are left out: no game runs there.
    pub machines: Vec<Machine>,
}

impl Program {
    /// Reads the headers of an ELF, PE or Mach-O file.
    ///
    /// # Errors
    /// [`FormatError::Not`] for every other file; the others for one that is broken.
    pub fn read(from: &mut (impl Read + Seek)) -> Result<Self, FormatError> {
        match Elf::read(from) {
            Err(FormatError::Not { .. }) => {}
            Err(error) => return Err(error),
            Ok(elf) => {
                let machines = if elf.is_little_endian { vec![elf.machine] } else { Vec::new() };
                return Ok(Self { form: Form::Elf, kind: elf.kind, machines });
            }
        }
        match Pe::read(from) {
            Err(FormatError::Not { .. }) => {}
            Err(error) => return Err(error),
            Ok(pe) => return Ok(Self { form: Form::Pe, kind: pe.kind, machines: vec![pe.machine] }),
        }
        match MachO::read(from) {
            Err(FormatError::Not { .. }) => Err(FormatError::Not { format: "a program of any system" }),
            Err(error) => Err(error),
            Ok(macho) => {
                // Slices of one file are of one kind; if not, the least is what can be relied on.
                let is_program = macho.slices.iter().all(|s| s.kind == Kind::Program);
                let first = macho.slices.first().map_or(Kind::Other, |s| s.kind);
                let kind = if is_program || first != Kind::Program { first } else { Kind::Other };
                Ok(Self { form: Form::MachO, kind, machines: macho.slices.iter().map(|s| s.machine).collect() })
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Cursor;

    #[test]
    fn each_form_is_told_from_the_others() {
        let read = |bytes: &[u8]| Program::read(&mut Cursor::new(bytes));
        let pe = crate::pe::tests::sample(0x8664, 0x22);
        let universal = crate::macho::tests::universal(&[(0x0100_0007, 2), (0x0100_000c, 2)]);
        assert_eq!(read(&pe).unwrap().form, Form::Pe);
        let program = read(&universal).unwrap();
        assert_eq!((program.form, program.machines), (Form::MachO, vec![Machine::X86_64, Machine::Aarch64]));
        for other in [b"".as_slice(), b"#!/bin/sh", b"PK\x03\x04", b"\xca\xfe\xba\xbe\0\0\0\x41"] {
            assert!(matches!(read(other), Err(FormatError::Not { .. })), "{other:?}");
        }
    }
}
