//! What jobs are told of names: what a resolver says, but for addresses that they do not reach (RFC 1035, section 4).

use std::net::Ipv4Addr;

use simple_dns::rdata::RData;
use simple_dns::{CLASS, OPCODE, Packet, PacketFlag, QCLASS, QTYPE, Question, RCODE, TYPE};

use super::Network;

/// How long the head of a message is, in bytes.
const HEAD: usize = 12;
/// Where the name of an address ends (RFC 1035, section 3.5).
const REVERSE: &str = ".in-addr.arpa";

/// A question that was asked inside a job.
#[derive(Debug)]
pub struct NameQuestion<'a> {
    /// Nothing where it is none that is understood.
    question: Option<Question<'a>>,
    id: u16,
    opcode: OPCODE,
}

/// What a message is, of which an answer was hoped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Heard {
    /// The answer, which may be passed on.
    Answer,
    /// The answer, with an address that is closed.
    Closed(Ipv4Addr),
    /// Not the answer.
    Other,
}

impl<'a> NameQuestion<'a> {
    /// A question as it came; nothing where it is none at all.
    #[must_use]
    pub fn read(message: &'a [u8]) -> Option<Self> {
        let head = message.get(..HEAD)?;
        let id = u16::from_be_bytes([head[0], head[1]]);
        let is_answer = head[2] & 0x80 != 0;
        if is_answer {
            return None;
        }
        let opcode = OPCODE::from(u16::from(head[2] >> 3 & 0xf));
        // One question, and nothing that answers it: what else a head counts is not even looked for.
        let is_one = head[4..10] == [0, 1, 0, 0, 0, 0];
        let packet = if is_one { Packet::parse(message).ok() } else { None };
        let question = packet.and_then(|mut packet| packet.questions.pop());
        Some(Self { question, id, opcode })
    }

    /// The name, as people read it: what cannot be read stands as `?`.
    #[must_use]
    pub fn name(&self) -> String {
        let name = self.question.as_ref().map(|question| question.qname.to_string()).unwrap_or_default();
        name.chars().map(|letter| if letter.is_ascii_graphic() { letter } else { '?' }).collect()
    }

    /// What is answered without anybody being asked: to what is no question for a name of the internet, to whom wants all
    /// names of a zone, for addresses of version 6, of which a job reaches none, and for names of addresses that are
    /// closed. Nothing where a resolver is to be asked.
    #[must_use]
    pub fn answer_here(&self, closed: &[Network]) -> Option<Vec<u8>> {
        let Some(question) = &self.question else { return Some(self.answer(RCODE::FormatError)) };
        let is_address_closed = || {
            let address = address_of(&question.qname.to_string());
            address.is_some_and(|address| closed.iter().any(|network| network.has(address)))
        };
        let code = match question.qtype {
            _ if self.opcode != OPCODE::StandardQuery => RCODE::NotImplemented,
            _ if question.qclass != QCLASS::CLASS(CLASS::IN) => RCODE::Refused,
            QTYPE::AXFR | QTYPE::IXFR => RCODE::Refused,
            QTYPE::TYPE(TYPE::AAAA | TYPE::HTTPS | TYPE::SVCB) => RCODE::NoError,
            QTYPE::TYPE(TYPE::PTR) if is_address_closed() => RCODE::NameError,
            _ => return None,
        };
        Some(self.answer(code))
    }

    /// That there is nothing of the kind: the answer in place of one with a closed address.
    #[must_use]
    pub fn nothing(&self) -> Vec<u8> {
        self.answer(RCODE::NoError)
    }

    /// That no resolver answers.
    #[must_use]
    pub fn failed(&self) -> Vec<u8> {
        self.answer(RCODE::ServerFailure)
    }

    /// What a message is that came from a resolver, where these networks are not reached.
    #[must_use]
    pub fn heard(&self, message: &[u8], closed: &[Network]) -> Heard {
        let Some((asked, packet)) = self.question.as_ref().zip(Packet::parse(message).ok()) else {
            return Heard::Other;
        };
        let is_same = |question: &Question<'_>| {
            question.qtype == asked.qtype && question.qname.to_string().eq_ignore_ascii_case(&asked.qname.to_string())
        };
        if packet.id() != self.id
            || !packet.has_flags(PacketFlag::RESPONSE)
            || !matches!(packet.questions.as_slice(), [question] if is_same(question))
        {
            return Heard::Other;
        }
        let records = packet.answers.iter().chain(&packet.name_servers).chain(&packet.additional_records);
        let addresses = records.filter_map(|record| match &record.rdata {
            RData::A(a) => Some(Ipv4Addr::from_bits(a.address)),
            _ => None,
        });
        let is_closed = |address: &Ipv4Addr| closed.iter().any(|network| network.has(*address));
        addresses.into_iter().find(is_closed).map_or(Heard::Answer, Heard::Closed)
    }

    /// An answer with no record.
    fn answer(&self, code: RCODE) -> Vec<u8> {
        let mut packet = Packet::new_reply(self.id);
        packet.set_flags(PacketFlag::RECURSION_DESIRED | PacketFlag::RECURSION_AVAILABLE);
        *packet.opcode_mut() = self.opcode;
        *packet.rcode_mut() = code;
        packet.questions.extend(self.question.clone());
        // What was read can be written.
        packet.build_bytes_vec().unwrap_or_default()
    }
}

/// The address that a name is the name of, in reverse.
fn address_of(name: &str) -> Option<Ipv4Addr> {
    let name = name.trim_end_matches('.').to_ascii_lowercase();
    let mut parts: Vec<&str> = name.strip_suffix(REVERSE)?.split('.').collect();
    parts.reverse();
    parts.join(".").parse().ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use simple_dns::rdata::{A, CNAME};
    use simple_dns::{Name, ResourceRecord};

    use super::super::Reach;
    use super::*;

    fn question(name: &str, kind: impl Into<QTYPE>) -> Vec<u8> {
        let mut packet = Packet::new_query(4711);
        packet.set_flags(PacketFlag::RECURSION_DESIRED);
        let class = QCLASS::CLASS(CLASS::IN);
        packet.questions.push(Question::new(Name::new(name).unwrap(), kind.into(), class, false));
        packet.build_bytes_vec().unwrap()
    }

    /// What a resolver says to a question: an alias, and then these addresses.
    fn answer(question: &[u8], addresses: &[Ipv4Addr]) -> Vec<u8> {
        let mut packet = Packet::parse(question).unwrap().into_reply();
        let name = packet.questions[0].qname.clone();
        let data = RData::CNAME(CNAME(Name::new("beds.fernhollow.test").unwrap()));
        packet.answers.push(ResourceRecord::new(name, CLASS::IN, 60, data));
        for address in addresses {
            let name = Name::new("beds.fernhollow.test").unwrap();
            packet.answers.push(ResourceRecord::new(name, CLASS::IN, 60, RData::A(A::from(*address))));
        }
        packet.build_bytes_vec_compressed().unwrap()
    }

    fn here(message: &[u8]) -> Option<RCODE> {
        let answer = NameQuestion::read(message).unwrap().answer_here(&Reach::default().closed(&[]))?;
        let answer = Packet::parse(&answer).unwrap();
        assert!(answer.id() == 4711 && answer.has_flags(PacketFlag::RESPONSE) && answer.answers.is_empty());
        Some(answer.rcode())
    }

    #[test]
    fn a_resolver_is_asked_for_names_of_the_internet_and_for_nothing_else() {
        assert_eq!(here(&question("fernhollow.test", TYPE::A)), None);
        assert_eq!(here(&question("fernhollow.test", TYPE::MX)), None);
        assert_eq!(here(&question("fernhollow.test", TYPE::AAAA)), Some(RCODE::NoError));
        assert_eq!(here(&question("fernhollow.test", QTYPE::AXFR)), Some(RCODE::Refused));
        assert_eq!(here(&question("8.8.8.8.in-addr.arpa", TYPE::PTR)), None);
        assert_eq!(here(&question("7.0.20.10.in-addr.ARPA", TYPE::PTR)), Some(RCODE::NameError));
        let mut update = question("fernhollow.test", TYPE::A);
        update[2] = 5 << 3;
        assert_eq!(here(&update), Some(RCODE::NotImplemented), "nobody's zone is changed");
        let mut two = question("fernhollow.test", TYPE::A);
        two[5] = 2;
        assert_eq!(here(&two), Some(RCODE::FormatError));
        let asked = question("fernhollow.test", TYPE::A);
        assert!(NameQuestion::read(&answer(&asked, &[])).is_none(), "an answer is no question");
        assert!(NameQuestion::read(&asked[..11]).is_none());
    }

    #[test]
    fn an_answer_with_an_address_that_is_closed_is_not_passed_on() {
        let asked = question("beds.fernhollow.test", TYPE::A);
        let read = NameQuestion::read(&asked).unwrap();
        let [public, private, other] = [[8, 8, 8, 8], [10, 20, 0, 7], [192, 168, 1, 1]].map(Ipv4Addr::from);
        let closed = Reach::default().closed(&[]);
        assert_eq!(read.heard(&answer(&asked, &[public]), &closed), Heard::Answer);
        assert_eq!(read.heard(&answer(&asked, &[public, private]), &closed), Heard::Closed(private));
        let opened = Reach::with(vec!["10.20.0.0/16".parse().unwrap()]).closed(&[]);
        assert_eq!(read.heard(&answer(&asked, &[public, private]), &opened), Heard::Answer);
        assert_eq!(read.heard(&answer(&asked, &[private, other]), &opened), Heard::Closed(other));
        assert_eq!(read.heard(&asked, &closed), Heard::Other);
        let another = question("seeds.fernhollow.test", TYPE::A);
        assert_eq!(read.heard(&answer(&another, &[public]), &closed), Heard::Other);
        let mut older = answer(&asked, &[public]);
        older[1] ^= 1;
        assert_eq!(read.heard(&older, &closed), Heard::Other);
        let nothing = read.nothing();
        assert_eq!(read.heard(&nothing, &closed), Heard::Answer);
        assert_eq!(Packet::parse(&read.failed()).unwrap().rcode(), RCODE::ServerFailure);
        assert_eq!(read.name(), "beds.fernhollow.test");
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_and_answered_and_no_closed_address_is_passed_on(
            noise in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..4),
            addresses in prop::collection::vec(any::<u32>().prop_map(Ipv4Addr::from_bits), 0..4),
            tail in prop::collection::vec(any::<u8>(), 0..40),
        ) {
            let closed = Reach::default().closed(&[]);
            let asked = question("beds.fernhollow.test", TYPE::A);
            let read = NameQuestion::read(&asked).unwrap();
            let mut told = answer(&asked, &addresses);
            let is_open = addresses.iter().all(|one| !closed.iter().any(|network| network.has(*one)));
            prop_assert_eq!(read.heard(&told, &closed) == Heard::Answer, is_open);
            told.extend(tail);
            for (at, byte) in noise {
                let at = at.index(told.len());
                told[at] = byte;
            }
            // Nothing of this may stop whoever reads it.
            let _ = read.heard(&told, &closed);
            if let Some(question) = NameQuestion::read(&told) {
                let _ = (question.answer_here(&closed), question.failed(), question.name());
            }
        }
    }
}
