//! The widths of integers.

/// An integer type.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum IntType {
    /// -128 to 127.
    Int8,
    /// -32,768 to 32,767.
    Int16,
    /// About ±2.1 billion.
    Int32,
    /// About ±9.2 × 10^18.
    Int64,
    /// 0 to 255.
    UInt8,
    /// 0 to 65,535.
    UInt16,
    /// 0 to about 4.3 billion.
    UInt32,
    /// 0 to about 1.8 × 10^19.
    UInt64,
}

impl IntType {
    /// All integer types; of each sign the narrowest first, the unsigned first.
    pub const ALL: [IntType; 8] = [
        IntType::UInt8,
        IntType::UInt16,
        IntType::UInt32,
        IntType::UInt64,
        IntType::Int8,
        IntType::Int16,
        IntType::Int32,
        IntType::Int64,
    ];

    /// Its spelling.
    pub fn name(self) -> &'static str {
        match self {
            IntType::Int8 => "int8",
            IntType::Int16 => "int16",
            IntType::Int32 => "int32",
            IntType::Int64 => "int64",
            IntType::UInt8 => "uint8",
            IntType::UInt16 => "uint16",
            IntType::UInt32 => "uint32",
            IntType::UInt64 => "uint64",
        }
    }

    /// Smallest and largest value.
    pub fn range(self) -> (i128, i128) {
        match self {
            IntType::Int8 => (i8::MIN.into(), i8::MAX.into()),
            IntType::Int16 => (i16::MIN.into(), i16::MAX.into()),
            IntType::Int32 => (i32::MIN.into(), i32::MAX.into()),
            IntType::Int64 => (i64::MIN.into(), i64::MAX.into()),
            IntType::UInt8 => (0, u8::MAX.into()),
            IntType::UInt16 => (0, u16::MAX.into()),
            IntType::UInt32 => (0, u32::MAX.into()),
            IntType::UInt64 => (0, u64::MAX.into()),
        }
    }

    /// The narrowest type that holds every integer from `low` to `high`: unsigned where `low` is not
    /// negative. `None` where 64 bits are not enough.
    pub fn narrowest(low: i128, high: i128) -> Option<IntType> {
        let signed = low < 0;
        IntType::ALL.into_iter().find(|ty| {
            let (least, most) = ty.range();
            (least < 0) == signed && least <= low && high <= most
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn narrowest_integers_at_every_boundary() {
        for ty in IntType::ALL {
            let (low, high) = ty.range();
            assert_eq!(IntType::narrowest(low, high), Some(ty));
            let wider = IntType::narrowest(low, high + 1).map(|wider| wider.range().1);
            assert!(wider.is_none_or(|most| most > high), "{}", ty.name());
            if low < 0 {
                assert_ne!(IntType::narrowest(low - 1, high), Some(ty));
            }
        }
        assert_eq!(IntType::narrowest(0, 0), Some(IntType::UInt8));
        assert_eq!(IntType::narrowest(-1, 127), Some(IntType::Int8));
        assert_eq!(IntType::narrowest(-1, 128), Some(IntType::Int16));
        assert_eq!(IntType::narrowest(0, i128::from(u64::MAX) + 1), None);
    }
}
