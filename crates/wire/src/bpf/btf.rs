//! The kernel's description of its own types.
//!
//! Source: `Documentation/bpf/btf.rst` and `linux/btf.h` of the Linux kernel. Numbers are in the
//! machine's own byte order.

use crate::WireError;
use crate::reader::Fields;

const MAGIC: u16 = 0xeb9f;
/// The bytes of `struct btf_type`, and of one member of a structure.
const TYPE: usize = 12;
const MEMBER: usize = 12;

const STRUCT: u8 = 4;
const UNION: u8 = 5;
const FUNCTION: u8 = 12;

/// Types, as a running kernel offers them at `/sys/kernel/btf/vmlinux`.
#[derive(Debug)]
pub struct Btf<'a> {
    /// Where each type begins; the first is type 1.
    types: Vec<&'a [u8]>,
    texts: &'a [u8],
}

/// The head of a type.
#[derive(Clone, Copy)]
struct Head {
    name: usize,
    kind: u8,
    /// Members, values or parameters.
    parts: usize,
    /// Whether members' offsets share their number with a width in bits.
    has_widths: bool,
}

impl<'a> Btf<'a> {
    /// Reads it.
    ///
    /// # Errors
    /// [`WireError`] if it is cut short or of another kind than is known.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, WireError> {
        let what = "the head of the type description";
        let mut head = Fields::new(bytes, what);
        let (magic, _version_and_flags) = (head.ne16()?, head.ne16()?);
        if magic != MAGIC {
            return Err(WireError::Missing { what: "the mark of a type description" });
        }
        let mut number = || head.ne32().map(|it| usize::try_from(it).unwrap_or(usize::MAX));
        let (length, types_at, types) = (number()?, number()?, number()?);
        let (texts_at, texts) = (number()?, number()?);
        let part = |at: usize, size: usize| {
            let start = length.checked_add(at)?;
            bytes.get(start..start.checked_add(size)?)
        };
        let cut = |what| WireError::Truncated { what };
        let mut rest = part(types_at, types).ok_or(cut("the list of types"))?;
        let texts = part(texts_at, texts).ok_or(cut("the names of types"))?;
        let mut types = Vec::new();
        while !rest.is_empty() {
            let head = head_of(rest).ok_or(cut("a type"))?;
            let more = match head.kind {
                // An array.
                3 => 12,
                STRUCT | UNION | 15 | 19 => head.parts * 12,
                6 | 13 => head.parts * 8,
                // A number, a variable, a remark on a declaration.
                1 | 14 | 17 => 4,
                2 | 7..=12 | 16 | 18 => 0,
                kind => {
                    let length = usize::from(kind);
                    return Err(WireError::BadLength { what: "a type of unknown kind", length });
                }
            };
            let (this, after) = rest.split_at_checked(TYPE + more).ok_or(cut("a type"))?;
            types.push(this);
            rest = after;
        }
        Ok(Self { types, texts })
    }

    fn text(&self, at: usize) -> &'a [u8] {
        let text = self.texts.get(at..).unwrap_or_default();
        text.split(|&byte| byte == 0).next().unwrap_or_default()
    }

    fn named(&self, kind: u8, name: &str) -> Option<usize> {
        self.types.iter().position(|it| {
            head_of(it).is_some_and(|it| it.kind == kind && self.text(it.name) == name.as_bytes())
        })
    }

    /// How many bytes behind the start of a structure one of its fields is, also if it is within
    /// a part that has no name; `None` if there is no such structure or field.
    #[must_use]
    pub fn offset(&self, structure: &str, field: &str) -> Option<u32> {
        let bits = self.within(self.named(STRUCT, structure)?, field, 0)?;
        (bits % 8 == 0).then_some(bits / 8)
    }

    /// The offset in bits of a field in the type at that place of the list.
    fn within(&self, place: usize, field: &str, depth: usize) -> Option<u32> {
        // Unnamed parts nest a few levels deep at most.
        const DEEPEST: usize = 8;
        let bytes = self.types.get(place)?;
        let head = head_of(bytes).filter(|it| matches!(it.kind, STRUCT | UNION))?;
        bytes[TYPE..].chunks_exact(MEMBER).find_map(|member| {
            let mut fields = Fields::new(member, "a member");
            let name = usize::try_from(fields.ne32().ok()?).ok()?;
            let kind = usize::try_from(fields.ne32().ok()?).ok()?;
            let offset = fields.ne32().ok()?;
            let offset = if head.has_widths { offset & 0x00ff_ffff } else { offset };
            match self.text(name) {
                [] if depth < DEEPEST => {
                    let inner = self.within(kind.checked_sub(1)?, field, depth + 1)?;
                    offset.checked_add(inner)
                }
                name => (name == field.as_bytes()).then_some(offset),
            }
        })
    }

    /// The number of a function, by which programs are attached to it.
    #[must_use]
    pub fn function(&self, name: &str) -> Option<u32> {
        u32::try_from(self.named(FUNCTION, name)? + 1).ok()
    }
}

fn head_of(bytes: &[u8]) -> Option<Head> {
    let mut fields = Fields::new(bytes, "a type");
    let (name, info) = (fields.ne32().ok()?, fields.ne32().ok()?);
    let [kind_and_flag, ..] = info.to_be_bytes();
    Some(Head {
        name: usize::try_from(name).ok()?,
        kind: kind_and_flag & 0x1f,
        parts: usize::try_from(info & 0xffff).ok()?,
        has_widths: kind_and_flag & 0x80 != 0,
    })
}

#[cfg(test)]
mod tests {
    use super::Btf;
    use crate::WireError;

    /// A structure `crate` with the fields `lid` at byte 4 and, in a part without a name at byte
    /// 8, `left` at 8 and `right` at 16; then a function `open`.
    fn description() -> Vec<u8> {
        let texts = b"\0crate\0lid\0left\0right\0open\0";
        let at = |word: &str| {
            let found = texts.windows(word.len()).position(|it| it == word.as_bytes());
            u32::try_from(found.expect("it is there")).expect("small")
        };
        let types = [
            // The unnamed part, type 1: kind 4, two members; its size.
            [0, 4 << 24 | 2, 16].as_slice(),
            &[at("left"), 0, 0],
            &[at("right"), 0, 64],
            // Type 2, with widths beside the offsets.
            &[at("crate"), 1 << 31 | 4 << 24 | 2, 24],
            &[at("lid"), 0, 7 << 24 | 32],
            &[0, 1, 64],
            // Type 3.
            &[at("open"), 12 << 24, 0],
        ]
        .concat();
        let size = |it: usize| u32::try_from(it).expect("small");
        let mut bytes = 0xeb9f_u16.to_ne_bytes().to_vec();
        bytes.extend([1, 0]);
        let lengths = [24, 0, size(types.len() * 4), size(types.len() * 4), size(texts.len())];
        bytes.extend(lengths.iter().chain(&types).flat_map(|it| it.to_ne_bytes()));
        bytes.extend(texts);
        bytes
    }

    #[test]
    fn fields_are_found_also_in_parts_without_a_name() {
        let bytes = description();
        let types = Btf::parse(&bytes).expect("well formed");
        assert_eq!(types.offset("crate", "lid"), Some(4));
        assert_eq!(types.offset("crate", "left"), Some(8));
        assert_eq!(types.offset("crate", "right"), Some(16));
        assert_eq!(types.offset("crate", "handle"), None);
        assert_eq!(types.offset("barrel", "lid"), None);
        assert_eq!(types.function("open"), Some(3));
        assert_eq!(types.function("crate"), None);
    }

    #[test]
    fn what_is_cut_short_is_an_error_and_never_a_panic() {
        let bytes = description();
        for length in 0..bytes.len() {
            let cut = Btf::parse(&bytes[..length]);
            assert!(matches!(cut, Err(WireError::Truncated { .. })), "{length}: {cut:?}");
        }
        assert!(matches!(Btf::parse(&[0; 64]), Err(WireError::Missing { .. })));
    }
}
