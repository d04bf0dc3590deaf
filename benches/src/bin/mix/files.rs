//! Files of many kinds, each from its own dice: what data engineers are handed, and what a reader that was tuned on one
//! kind of file is slow on.

use std::io::{BufWriter, Write};
use std::path::Path;

use rand_chacha::ChaCha8Rng;
use rand_chacha::rand_core::{Rng, SeedableRng};

/// Dice of one file.
struct Dice(ChaCha8Rng);

impl Dice {
    fn word(&mut self) -> u64 {
        self.0.next_u64()
    }

    fn below(&mut self, end: u64) -> u64 {
        ((u128::from(self.0.next_u64()) * u128::from(end)) >> 64) as u64
    }

    fn pick<'t>(&mut self, things: &[&'t str]) -> &'t str {
        things[self.below(things.len() as u64) as usize]
    }

    /// A double from 0 up to 1.
    fn unit(&mut self) -> f64 {
        (self.0.next_u64() >> 11) as f64 / (1u64 << 53) as f64
    }

    fn letters(&mut self, least: u64, most: u64) -> String {
        let length = least + self.below(most - least + 1);
        (0..length).map(|_| char::from(b'a' + self.below(26) as u8)).collect()
    }

    fn uuid(&mut self) -> String {
        let (a, b) = (self.word(), self.word());
        let (high, low) = (a >> 32, a & 0xffff_ffff);
        format!(
            "{high:08x}-{:04x}-{:04x}-{:04x}-{:012x}",
            low >> 16,
            low & 0xffff,
            b >> 48,
            b & 0xffff_ffff_ffff
        )
    }

    fn day(&mut self) -> (u64, u64, u64) {
        (2015 + self.below(11), 1 + self.below(12), 1 + self.below(28))
    }

    fn clock(&mut self) -> (u64, u64, u64) {
        (self.below(24), self.below(60), self.below(60))
    }
}

/// A kind of file: its name, what it holds, its header, and how a record of it is made.
pub struct Kind {
    pub name: &'static str,
    pub about: &'static str,
    header: fn() -> String,
    record: fn(&mut Dice, u64) -> String,
}

const HARBOURS: [&str; 12] = [
    "Holm",
    "Ternvik",
    "Aukness",
    "Tårnvik",
    "Gullholm",
    "Östersund",
    "Skarvøy",
    "Ærø",
    "Lomvi",
    "Sula",
    "Norðoy",
    "Hvaler",
];

const WORDS: [&str; 16] = [
    "wind", "from", "the", "north", "and", "a", "swell", "that", "kept", "ferry", "late", "until",
    "noon", "when", "harbour", "cleared",
];

/// A number with thousands by points and a decimal comma.
fn comma(dice: &mut Dice) -> String {
    let (whole, cents) = (dice.below(100_000), dice.below(100));
    if whole >= 1000 {
        format!("{}.{:03},{cents:02}", whole / 1000, whole % 1000)
    } else {
        format!("{whole},{cents:02}")
    }
}

fn prose(dice: &mut Dice, words: u64) -> String {
    let mut text = String::new();
    for at in 0..words {
        if at > 0 {
            text.push(match dice.below(12) {
                0 => '\n',
                1 => ',',
                _ => ' ',
            });
        }
        text.push_str(dice.pick(&WORDS));
    }
    text
}

/// All kinds.
pub const KINDS: [Kind; 17] = [
    Kind {
        name: "fractions",
        about: "five columns of fractions of every length",
        header: || "a,b,c,d,e".into(),
        record: |dice, _| {
            let (a, b) = (dice.below(100_000_000), dice.below(1_000_000));
            let (c, d, e) = (dice.unit() * 90.0, dice.unit() as f32, dice.below(10_000_000));
            format!(
                "{}.{:03},0.{b:06},{c:.9},{d},{}.{:05}",
                a / 1000,
                a % 1000,
                e / 100_000,
                e % 100_000
            )
        },
    },
    Kind {
        name: "doubles",
        about: "three columns of doubles with all their digits, some with exponents",
        header: || "x,y,z".into(),
        record: |dice, _| {
            let (x, y, z) = (dice.unit() - 0.5, dice.unit() * 1e6, dice.unit());
            let power = 10f64.powi(dice.below(30) as i32 - 15);
            if dice.below(5) == 0 {
                format!("{x},{y},{:e}", z * power)
            } else {
                format!("{x},{y},{z}")
            }
        },
    },
    Kind {
        name: "commas",
        about: "semicolons, names beyond ASCII, amounts with decimal commas",
        header: || "nummer;name;betrag;saldo;ort".into(),
        record: |dice, row| {
            let (a, b) = (comma(dice), comma(dice));
            let name =
                format!("{} {}ß{}", dice.pick(&HARBOURS), dice.letters(2, 6), dice.letters(1, 4));
            format!("{row};{name};{a};-{b};{}", dice.pick(&HARBOURS))
        },
    },
    Kind {
        name: "wide",
        about: "400 columns of small numbers",
        header: || (0..400).map(|at| format!("m{at}")).collect::<Vec<_>>().join(","),
        record: |dice, _| {
            (0..400).map(|_| dice.below(1000).to_string()).collect::<Vec<_>>().join(",")
        },
    },
    Kind {
        name: "log",
        about: "distinct timestamps, addresses, paths, `M/d/yyyy h:mm a`",
        header: || "at,address,path,seen,status".into(),
        record: |dice, row| {
            let (y, m, d) = dice.day();
            let (h, min, s) = dice.clock();
            let address = dice.word();
            let [a, b, c, e] =
                [address >> 8 & 0xff, address >> 16 & 0xff, address >> 24 & 0xff, address & 0xff];
            let half = if h >= 12 { "PM" } else { "AM" };
            let path = format!("/{}/{}/{}", dice.letters(3, 8), dice.letters(2, 9), row);
            format!(
                "{y}-{m:02}-{d:02}T{h:02}:{min:02}:{s:02}.{:03}Z,{a}.{b}.{c}.{e},{path},{m}/{d}/{y} {}:{min:02} {half},{}",
                dice.below(1000),
                if h % 12 == 0 { 12 } else { h % 12 },
                dice.pick(&["200", "204", "301", "404", "500"])
            )
        },
    },
    Kind {
        name: "quoted",
        about: "every field in quotes",
        header: || "\"id\",\"harbour\",\"code\",\"amount\",\"day\"".into(),
        record: |dice, row| {
            let (y, m, d) = dice.day();
            let amount = dice.below(1_000_000);
            format!(
                "\"{row}\",\"{}\",\"{}\",\"{}.{:02}\",\"{y}-{m:02}-{d:02}\"",
                dice.pick(&HARBOURS),
                dice.letters(8, 8),
                amount / 100,
                amount % 100
            )
        },
    },
    Kind {
        name: "uuids",
        about: "two columns of UUIDs",
        header: || "id,parent".into(),
        record: |dice, _| format!("{},{}", dice.uuid(), dice.uuid()),
    },
    Kind {
        name: "sensors",
        about: "readings with four digits and an `NA` now and then",
        header: || "gauge,level,flow,temp".into(),
        record: |dice, row| {
            let mut reading = |scale: u64| {
                let n = dice.below(scale);
                if dice.below(500) == 0 {
                    "NA".into()
                } else {
                    format!("{}.{:04}", n / 10_000, n % 10_000)
                }
            };
            let (a, b, c) = (reading(200_000), reading(9_000_000), reading(300_000));
            format!("g{:03},{a},{b},{c}", row % 300)
        },
    },
    Kind {
        name: "sparse",
        about: "60 columns, nine in ten fields empty",
        header: || (0..60).map(|at| format!("f{at}")).collect::<Vec<_>>().join(","),
        record: |dice, _| {
            let field = |at: usize, dice: &mut Dice| match (dice.below(10), at % 3) {
                (0, 0) => dice.below(100_000).to_string(),
                (0, 1) => dice.pick(&HARBOURS).to_owned(),
                (0, _) => format!("{}.{:02}", dice.below(1000), dice.below(100)),
                _ => String::new(),
            };
            (0..60).map(|at| field(at, dice)).collect::<Vec<_>>().join(",")
        },
    },
    Kind {
        name: "trips",
        about: "trips of taxis, 16 columns",
        header: || {
            "vendor,picked_up,dropped_off,passengers,distance,pick_lon,pick_lat,rate,kept,drop_lon,drop_lat,payment,fare,\
             tip,toll,total"
                .into()
        },
        record: |dice, _| {
            let (y, m, d) = dice.day();
            let (h, min, s) = dice.clock();
            let mut money = |most: u64| {
                let n = dice.below(most);
                format!("{}.{:02}", n / 100, n % 100)
            };
            let (distance, fare, tip, toll, total) =
                (money(3000), money(9000), money(1500), money(700), money(12_000));
            let mut place = |base: i64| {
                let n = dice.below(200_000);
                format!("{base}.{:06}", 700_000 + n)
            };
            let (a, b, c, e) = (place(-73), place(40), place(-73), place(40));
            let start = format!("{y}-{m:02}-{d:02} {h:02}:{min:02}:{s:02}");
            let end =
                format!("{y}-{m:02}-{d:02} {h:02}:{:02}:{:02}", dice.below(60), dice.below(60));
            format!(
                "{},{start},{end},{},{distance},{a},{b},{},{},{c},{e},{},{fare},{tip},{toll},{total}",
                1 + dice.below(2),
                1 + dice.below(6),
                dice.below(5),
                dice.pick(&["Y", "N"]),
                dice.pick(&["CSH", "CRD", "NOC"])
            )
        },
    },
    Kind {
        name: "int64",
        about: "two columns of 64-bit integers",
        header: || "key,hash".into(),
        record: |dice, _| format!("{},{}", dice.word() >> 1, dice.word().cast_signed()),
    },
    Kind {
        name: "prose",
        about: "prose with line breaks in quotes",
        header: || "id,note,author".into(),
        record: |dice, row| {
            let words = 20 + dice.below(60);
            format!("{row},\"{}\",{}", prose(dice, words), dice.pick(&HARBOURS))
        },
    },
    Kind {
        name: "short",
        about: "one column of short integers",
        header: || "n".into(),
        record: |dice, _| dice.below(1000).to_string(),
    },
    Kind {
        name: "sorted",
        about: "a key that rises, names that fall into few, days in order",
        header: || "key,harbour,day,count".into(),
        record: |dice, row| {
            let day = row / 4000;
            format!(
                "{},{},{}-{:02}-{:02},{}",
                1_000_000_000 + row * 3,
                dice.pick(&HARBOURS),
                2000 + day / 336,
                day / 28 % 12 + 1,
                day % 28 + 1,
                dice.below(50)
            )
        },
    },
    Kind {
        name: "codes",
        about: "codes with leading zeros, currencies, per cent, yes and no",
        header: || "code,price,share,open,phone".into(),
        record: |dice, _| {
            format!(
                "{:07},${}.{:02},{}%,{},+47 {:08}",
                dice.below(3_000_000),
                dice.below(1000),
                dice.below(100),
                dice.below(100),
                dice.pick(&["yes", "no"]),
                dice.below(100_000_000)
            )
        },
    },
    Kind {
        name: "names",
        about: "distinct names and texts in several alphabets, tabs",
        header: || "имя\tπόλη\t注\tmail".into(),
        record: |dice, row| {
            let cyrillic: String = (0..6 + dice.below(8))
                .map(|_| char::from_u32(0x430 + dice.below(32) as u32).unwrap_or('а'))
                .collect();
            let greek = dice.pick(&["Αθήνα", "Πάτρα", "Χανιά", "Ρόδος"]);
            let kanji: String = (0..2 + dice.below(4))
                .map(|_| char::from_u32(0x4e00 + dice.below(2000) as u32).unwrap_or('注'))
                .collect();
            format!("{cyrillic}\t{greek}\t{kanji}\t{}{row}@example.org", dice.letters(3, 9))
        },
    },
    Kind {
        name: "mixed",
        about: "numbers among which one in a hundred is a word, dates of two kinds",
        header: || "n,day,flag,value".into(),
        record: |dice, _| {
            let (y, m, d) = dice.day();
            let n = if dice.below(100) == 0 {
                dice.letters(3, 5)
            } else {
                dice.below(1_000_000).to_string()
            };
            let day = if dice.below(3) == 0 {
                format!("{d:02}.{m:02}.{y}")
            } else {
                format!("{y}-{m:02}-{d:02}")
            };
            format!(
                "{n},{day},{},{}.{}",
                dice.pick(&["T", "F"]),
                dice.below(10_000),
                dice.below(10)
            )
        },
    },
];

/// Writes a file of a kind, of about so many bytes.
///
/// # Errors
/// A file that cannot be written.
pub fn write(kind: &Kind, path: &Path, bytes: u64) -> std::io::Result<()> {
    let mut to = BufWriter::new(std::fs::File::create(path)?);
    let seed = kind.name.bytes().fold(7, |seed, byte| seed * 31 + u64::from(byte));
    let mut dice = Dice(ChaCha8Rng::seed_from_u64(seed));
    let header = (kind.header)();
    writeln!(to, "{header}")?;
    let mut written = header.len() as u64 + 1;
    let mut row = 0;
    while written < bytes {
        let record = (kind.record)(&mut dice, row);
        writeln!(to, "{record}")?;
        written += record.len() as u64 + 1;
        row += 1;
    }
    to.flush()
}
