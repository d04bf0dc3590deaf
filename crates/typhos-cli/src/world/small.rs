//! The other files of the world, each in a dialect of its own.

use std::io::{self, Write};

use typhos_core::dates::{civil_from_days, days_from_civil};

use super::{DAYS, Dice, FIRST_DAY, PORTS, VESSELS};

/// Windows-1252 has the letters of these names in the places of Latin-1.
fn latin1(text: &str) -> Vec<u8> {
    text.chars().map(|letter| u8::try_from(u32::from(letter)).unwrap_or(b'?')).collect()
}

/// One month of crossings: no header, semicolons, CRLF, Windows-1252, decimal commas.
pub fn crossings(out: &mut dyn Write, month: u32, dice: &mut Dice) -> io::Result<()> {
    let first = days_from_civil(2024, month, 1);
    for day in first..days_from_civil(2024 + (month / 12) as i32, month % 12 + 1, 1) {
        let (_, _, of_month) = civil_from_days(day);
        for _ in 0..4 + dice.below(3) {
            let (vessel, port) = (dice.pick(&VESSELS), dice.pick(&PORTS));
            let (hour, minute, late) = (6 + dice.below(16), dice.below(12) * 5, dice.below(25));
            let actual = hour * 60 + minute + late;
            let wind = dice.below(280);
            let remark =
                *dice.pick(&["", "", "", "", "fog", "swell – slow", "half load", "Kapitän Sørby"]);
            let line = format!(
                "{of_month:02}.{month:02}.2024;{vessel};{port};{hour:02}:{minute:02};{:02}:{:02};{},{};{};{remark}\r\n",
                actual / 60,
                actual % 60,
                wind / 10,
                wind % 10,
                dice.below(240),
            );
            // The dash stands at 0x96 there, and nowhere in Latin-1.
            let mut bytes = latin1(&line.replace('–', "\u{96}"));
            out.write_all(&bytes)?;
            bytes.clear();
        }
    }
    Ok(())
}

/// Readings of tide gauges: tabs, offsets, seven digits of a second, `NA`.
pub fn gauges(out: &mut dyn Write, rows: u64, dice: &mut Dice) -> io::Result<()> {
    out.write_all(b"gauge\tmeasured_at\tlevel_m\twater_c\tbattery_v\n")?;
    for row in 0..rows {
        let minute = row * 7 + u64::from(dice.below(3));
        let (year, month, day) =
            civil_from_days((FIRST_DAY + (minute / 1440) as u32 % DAYS) as i32);
        let offset = if (4..=10).contains(&month) { "+02:00" } else { "+01:00" };
        write!(
            out,
            "{}-{:02}\t{year}-{month:02}-{day:02}T{:02}:{:02}:{:02}.{:07}{offset}\t",
            &PORTS[dice.below(6) as usize][..3],
            1 + dice.below(4),
            minute / 60 % 24,
            minute % 60,
            dice.below(60),
            dice.below(10_000_000),
        )?;
        let level = dice.below(4200) as i32 - 600;
        let sign = if level < 0 { "-" } else { "" };
        write!(out, "{sign}{}.{:03}\t", level.abs() / 1000, level.abs() % 1000)?;
        if dice.chance(60) {
            out.write_all(b"NA\t")?;
        } else {
            write!(out, "{}.{}\t", 3 + dice.below(14), dice.below(10))?;
        }
        writeln!(out, "3.{}", 1 + dice.below(99))?;
    }
    Ok(())
}

/// The fleet: tiny, every name distinct, places as "lat,lon".
pub fn vessels(out: &mut dyn Write, dice: &mut Dice) -> io::Result<()> {
    out.write_all(b"vessel,registry,built,berth,gross_tons,cars\n")?;
    for vessel in VESSELS {
        let mut id = [0u8; 16];
        id.iter_mut().for_each(|byte| *byte = dice.below(256) as u8);
        // Version 4, as uuids drawn by lot are.
        id[6] = id[6] & 0x0f | 0x40;
        id[8] = id[8] & 0x3f | 0x80;
        let hex: String = id.iter().map(|byte| format!("{byte:02x}")).collect();
        let uuid = [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-");
        write!(out, "{vessel},{uuid},{},", 1968 + dice.below(50))?;
        let (north, east) = (61_000 + dice.below(900), 3_000 + dice.below(1800));
        write!(
            out,
            "\"{}.{:03},{}.{:03}\",",
            north / 1000,
            north % 1000,
            east / 1000,
            east % 1000
        )?;
        writeln!(
            out,
            "{},{}",
            180 + dice.below(2400),
            if dice.chance(250) { String::new() } else { dice.below(60).to_string() }
        )?;
    }
    Ok(())
}

/// Reports of the engines: nested, a line each.
pub fn engines(out: &mut dyn Write, rows: u64, dice: &mut Dice) -> io::Result<()> {
    for row in 0..rows {
        let (year, month, day) = civil_from_days((FIRST_DAY + (row / 12) as u32 % DAYS) as i32);
        let vessel = dice.pick(&VESSELS);
        write!(
            out,
            "{{\"vessel\":\"{vessel}\",\"at\":\"{year}-{month:02}-{day:02}T{:02}:00:00Z\",",
            row % 12 * 2
        )?;
        let engine = |dice: &mut Dice| {
            format!(
                "{{\"rpm\":{},\"oil_bar\":{}.{}}}",
                400 + dice.below(1100),
                3 + dice.below(3),
                dice.below(10)
            )
        };
        let (port, starboard) = (engine(dice), engine(dice));
        write!(out, "\"engines\":{{\"port\":{port},\"starboard\":{starboard}}},")?;
        let alarms: Vec<_> =
            (0..dice.below(3)).map(|_| format!("\"A{:02}\"", dice.below(40))).collect();
        writeln!(out, "\"alarms\":[{}]}}", alarms.join(","))?;
    }
    Ok(())
}
