//! What both ends of a session have agreed on before the first datagram, and what each machine knows of the world.

mod heard;
mod kinds;
mod layouts;
mod print;
mod timeline;

pub use heard::Heard;
pub use kinds::Kinds;
pub use layouts::{Layouts, Owned};
pub use print::KindPrint;
pub use timeline::{Ingredients, Timeline};
