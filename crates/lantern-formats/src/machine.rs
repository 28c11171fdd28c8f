//! What a program was built for, and what it is for.

/// The processor a program was built for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Machine {
    /// 32-bit Intel and AMD.
    X86,
    /// 64-bit Intel and AMD.
    X86_64,
    /// 32-bit ARM.
    Arm,
    /// 64-bit ARM.
    Aarch64,
    /// Another one, by its number.
    Other(u16),
}

impl std::fmt::Display for Machine {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::X86 => f.write_str("32-bit x86"),
            Self::X86_64 => f.write_str("x86_64"),
            Self::Arm => f.write_str("32-bit ARM"),
            Self::Aarch64 => f.write_str("aarch64"),
            Self::Other(number) => write!(f, "processor number {number}"),
        }
    }
}

/// What the file is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum Kind {
    /// Can be started.
    Program,
    /// Is loaded by programs.
    Library,
    /// Is for a linker or a debugger.
    Other,
}
