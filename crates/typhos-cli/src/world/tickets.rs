//! Tickets: the file of the first minutes, and its evil twin.

use std::io::{self, Write};

use typhos_core::dates::civil_from_days;

use super::{DAYS, Dice, FIRST_DAY, PORTS};

const HEADER: &str =
    "ticket_no,booking,sold_on,departs_at,route,cabin,fare,party,Sold by (agent),note\n";

const CABINS: [(&str, u32); 3] = [("deck", 0), ("saloon", 900), ("cabin", 4_250)];

const DEPARTURES: [&str; 10] = [
    "06:15:00", "07:40:00", "09:00:00", "10:30:00", "12:00:00", "13:45:00", "15:20:00", "17:05:00",
    "19:30:00", "22:10:00",
];

const AGENTS: [&str; 24] = [
    "web",
    "harbour office",
    "phone",
    "kiosk 01",
    "kiosk 02",
    "kiosk 03",
    "kiosk 04",
    "kiosk 05",
    "on board",
    "Brandt & Sonne",
    "Tidewater Tours",
    "Post Skerrow",
    "Lantern Travel",
    "Hotel Auk",
    "Hotel Fulmar",
    "Island Council",
    "Schoolbus desk",
    "Kelp Camping",
    "Fishmarket",
    "Reef Divers",
    "Wool Museum",
    "Moorland Hut",
    "Lighthouse Inn",
    "Ferryman's Rest",
];

/// Notes with what makes quoting necessary: delimiters, line breaks, quotes.
const NOTES: [&str; 8] = [
    "\"Bike, 2 crates\"",
    "window seat",
    "\"Wheelchair; call on arrival\nbefore boarding, please\"",
    "\"Says \"\"the usual\"\" place\"",
    "dog",
    "\"Piano, on deck, covered\"",
    "late",
    "\"Group of 12, see invoice\"",
];

/// Dates as the ticket office writes them, made once: both forms, per day.
struct Days {
    short: Vec<String>,
    iso: Vec<String>,
}

impl Days {
    fn new() -> Days {
        let days = || (0..DAYS + 61).map(|day| civil_from_days((FIRST_DAY - 61 + day) as i32));
        Days {
            short: days().map(|(y, m, d)| format!("{m:02}/{d:02}/{:02}", y % 100)).collect(),
            iso: days().map(|(y, m, d)| format!("{y:04}-{m:02}-{d:02}")).collect(),
        }
    }
}

pub fn tickets(out: &mut dyn Write, rows: u64, dice: &mut Dice) -> io::Result<()> {
    out.write_all(HEADER.as_bytes())?;
    let days = Days::new();
    let mut lines = Vec::with_capacity(1 << 16);
    for ticket in 1..=rows {
        ticket_line(&mut lines, ticket, &days, dice)?;
        if lines.len() > (1 << 16) - 1024 {
            out.write_all(&lines)?;
            lines.clear();
        }
    }
    out.write_all(&lines)
}

fn ticket_line(line: &mut Vec<u8>, ticket: u64, days: &Days, dice: &mut Dice) -> io::Result<()> {
    let departs = 61 + dice.below(DAYS);
    // Half of the tickets are sold on the day or the day before, the rest up to two months ahead.
    let ahead = if dice.chance(500) { dice.below(2) } else { dice.below(61) };
    let booking =
        if dice.chance(30) { dice.below(1_000_000) } else { 10_000_000 + dice.below(90_000_000) };
    let port = dice.below(PORTS.len() as u32).min(dice.below(PORTS.len() as u32));
    let (cabin, extra) = CABINS[(dice.below(10) / 5 + u32::from(dice.chance(150))) as usize];
    let children = dice.chance(90);
    let cents = if children { 0 } else { 350 + port * 275 + extra + 50 * dice.below(20) };
    write!(line, "{ticket},{booking:08},{},", days.short[(departs - ahead) as usize])?;
    write!(
        line,
        "{} {},{},",
        days.iso[departs as usize],
        dice.pick(&DEPARTURES),
        PORTS[port as usize]
    )?;
    write!(line, "{cabin},{}.{:02},", cents / 100, cents % 100)?;
    if !dice.chance(43) {
        write!(line, "{}", 1 + dice.below(3) * dice.below(5))?;
    }
    write!(line, ",{},", dice.lean(&AGENTS))?;
    if dice.chance(120) {
        match dice.below(NOTES.len() as u32 + 2) as usize {
            at if at < NOTES.len() => line.extend_from_slice(NOTES[at].as_bytes()),
            _ => write!(line, "\"Voucher {}, paid\"", dice.below(1_000_000))?,
        }
    }
    line.push(b'\n');
    Ok(())
}

/// Tickets with everything wrong that tickets can have. Good ones stand between the bad.
pub fn refused(out: &mut dyn Write, dice: &mut Dice) -> io::Result<()> {
    out.write_all(HEADER.as_bytes())?;
    let days = Days::new();
    let bad: [&[u8]; 14] = [
        b"n/k,40118243,03/02/24,2024-03-09 09:00:00,Holm,deck,7.25,2,web,\n",
        b"41002,40118244,13/02/24,2024-03-09 09:00:00,Holm,deck,7.25,2,web,month 13\n",
        b"41003,40118245,06/31/24,2024-07-09 09:00:00,Holm,deck,7.25,2,web,31 June\n",
        b"41004,40118246,06/30/2024,2024-07-09 09:00:00,Holm,deck,7.25,2,web,four digits of year\n",
        b"41005,40118247,06/30/24,2024-07-09 25:00:00,Holm,deck,7.25,2,web,hour 25\n",
        b"41006,40118248,06/30/24,2024-07-09 09:00:00,Holm,dekc,7.25,2,web,a slip\n",
        b"41007,40118249,06/30/24,2024-07-09 09:00:00,Holm,deck,7.255,2,web,half a cent\n",
        b"41008,40118250,06/30/24,2024-07-09 09:00:00,Holm,deck,\"7,25\",2,web,decimal comma\n",
        b"41009,40118251,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,300,web,party of 300\n",
        b"41010,40118252,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25\n",
        b"41011,40118253,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,2,web,one,too many\n",
        b"41012,40118254,06/30/24,2024-07-09 09:00:00,Holm,\"deck\"s,7.25,2,web,text after a quote\n",
        b"41013,40118255,06/30/24,2024-07-09 09:00:00,T\xe5rnvik,deck,7.25,2,web,not UTF-8\n",
        b",40118256,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,2,web,no number\n",
    ];
    let mut lines = Vec::new();
    for (at, line) in bad.iter().enumerate() {
        for good in 0..3 {
            ticket_line(&mut lines, 40_000 + at as u64 * 3 + good, &days, dice)?;
        }
        lines.extend_from_slice(line);
    }
    lines.extend_from_slice(
        b"41015,40118257,06/30/24,2024-07-09 09:00:00,Holm,deck,7.25,2,web,\"never closed\n",
    );
    out.write_all(&lines)
}
