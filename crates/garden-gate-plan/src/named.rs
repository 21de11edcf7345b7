//! Closed sets of names: an enum whose variants have one spelling each, in texts and in JSON.

/// An enum of names: `name()` gives the spelling, `from_name` finds it without regard to case, `ALL` lists the variants in order.
macro_rules! named {
    ($(#[$meta:meta])* pub enum $kind:ident { $($(#[$doc:meta])* $variant:ident = $name:literal,)+ }) => {
        $(#[$meta])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
        #[non_exhaustive]
        pub enum $kind {
            $($(#[$doc])* #[serde(rename = $name)] $variant,)+
        }

        impl $kind {
            /// All of them, in the order of their declaration.
            pub const ALL: &[Self] = &[$(Self::$variant),+];

            /// Its name in texts and in JSON.
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name,)+
                }
            }

            /// The one of this name, in any case of letters.
            pub fn from_name(name: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|known| known.name().eq_ignore_ascii_case(name))
            }
        }

        impl std::fmt::Display for $kind {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(self.name())
            }
        }
    };
}
