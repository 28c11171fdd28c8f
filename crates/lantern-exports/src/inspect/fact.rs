//! What inspection can say of a build beside what every build has.

/// Makes the facts: `Name "label", what it says.`
macro_rules! facts {
    ($($name:ident $label:literal, $what:literal;)*) => {
        /// What a line of an inspection is about.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum Fact {
            $(#[doc = $what] $name,)*
        }

        impl Fact {
            /// The word before it, on screen and in JSON.
            pub const fn label(self) -> &'static str {
                match self { $(Self::$name => $label,)* }
            }
        }
    };
}

facts! {
    TopFolder "top folder", "The one folder at the top of an archive.";
    Processor "processor", "The processor of a library.";
    PictureSize "picture size", "Width and height, in pixels.";
    Profile "profile", "The provisioning profile: its name, what it is for, its last day.";
    AlsoCompressed "also compressed", "How many files of a page have a compressed twin.";
    OnlyCompressed "only compressed", "How many files of a page are there in compressed form alone.";
    Category "category", "The category that the system shows.";
    DebugDataOf "debug data of", "Identifiers of the programs that debug data belongs to.";
    SignedAs "signed as", "The identifier in a code signature.";
    Team "team", "The team that signed.";
    Runtime "runtime", "The runtime that the signature asks for.";
    SignatureCovers "signature covers", "How much of a bundle the signature covers, where it is not all.";
    Entitlements "entitlements", "What the signature allows the program to ask for.";
    Notarized "notarized", "Whether a notarization ticket is attached.";
    Loader "loader", "The dynamic loader that the program asks for.";
    Libraries "libraries", "How libraries are linked, where none is asked for.";
    SearchPath "search path", "Folders in which libraries are looked for.";
    DebugData "debug data", "Where the debug data is.";
    Modules "modules", "The modules of a bundle for a shop.";
    Processors "processors", "The processors of native libraries.";
    SignatureSchemes "signature schemes", "The signature schemes of a package.";
    Fingerprint "fingerprint", "SHA-256 of the certificate that signed, in hex.";
    PreviousKey "previous key", "SHA-256 of the certificate before a key rotation, in hex.";
    MadeFor "made for", "The API level that a package targets.";
    Requires "requires", "Device features that a package requires.";
    Permissions "permissions", "Permissions that a package asks for.";
    CertifiedBy "certified by", "The chain of issuers.";
    CertificateExpires "certificate expires", "The last day of the certificate.";
    TimeStampBy "time stamp by", "The authority of the time stamp, and the chain of issuers above it.";
    AlsoSignedBy "also signed by", "Who made a further signature that lies in the first one.";
    NotVerified "not verified", "What nothing verifies of a signature.";
    NotCovered "not covered", "What of the file no signature covers.";
    Appended "appended", "What lies behind a program in its file, and whether its signature covers it.";
    TimeStamp "time stamp", "When it was signed, as an authority says.";
    FileVersion "file version", "The version of the file, beside that of the product.";
    Company "company", "The company name in the version resource.";
    Copyright "copyright", "The copyright text in the version resource.";
    Opens "opens", "A window beside that of the game.";
    Needs "needs", "A runtime that must be installed.";
}
