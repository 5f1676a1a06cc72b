//! The kernel's numbers for what expressions name.

/// How one of several is chosen where addresses are translated (`NF_NAT_RANGE_*` in linux/netfilter/nf_nat.h).
pub mod nat {
    /// `NF_NAT_RANGE_NETMAP`: the prefix that the first and the last address share takes the place of as many bits; the
    /// rest of the address stays.
    pub const PREFIX: u32 = 1 << 6;
}

/// Register numbers (`enum nft_registers`).
pub mod registers {
    /// `NFT_REG_VERDICT`.
    pub const VERDICT: u32 = 0;
    /// `NFT_REG_1`: 16 bytes.
    pub const FIRST: u32 = 1;
    /// `NFT_REG32_00`: 4 bytes, the first of those of [`FIRST`]; the ones behind it follow by
    /// number.
    pub const FIRST_WORD: u32 = 8;

    /// The number under which a register is known by its first word, however it was named.
    #[must_use]
    pub fn word(register: u32) -> u32 {
        match register {
            1..=4 => FIRST_WORD + (register - 1) * 4,
            register => register,
        }
    }

    /// The number by which the kernel calls the register of a first word (`nft_dump_register`): where
    /// one of 16 bytes begins, that one's.
    #[must_use]
    pub fn called(word: u32) -> u32 {
        match word {
            FIRST_WORD..=23 if word.is_multiple_of(4) => FIRST + (word - FIRST_WORD) / 4,
            word => word,
        }
    }
}

/// Keys of connection tracking (`enum nft_ct_keys`).
pub mod ct {
    /// `NFT_CT_STATE`: one bit a state, in host order.
    pub const STATE: u32 = 0;
    /// `NFT_CT_DIRECTION`: one byte, 0 as the connection was made, 1 the other way.
    pub const DIRECTION: u32 = 1;
    /// `NFT_CT_STATUS`: one bit a fact, in host order.
    pub const STATUS: u32 = 2;
    /// `NFT_CT_SRC`: the address that it was made from.
    pub const SOURCE: u32 = 8;
    /// `NFT_CT_DST`: the address that it was made to.
    pub const DESTINATION: u32 = 9;
    /// `NFT_CT_PROTOCOL`: the protocol's number.
    pub const PROTOCOL: u32 = 10;
    /// `NFT_CT_PROTO_DST`: the port that it was made to; of ICMP, type and code.
    pub const DESTINATION_PORT: u32 = 12;
    /// `IPS_DST_NAT` of the status (linux/netfilter/nf_conntrack_common.h): the destination was
    /// translated.
    pub const LED: u32 = 1 << 5;
}

/// What is asked of the routing table (linux/netfilter/nf_tables.h, linux/rtnetlink.h).
pub mod fib {
    /// `NFTA_FIB_F_SADDR`: the address that the packet comes from.
    pub const SOURCE: u32 = 1;
    /// `NFTA_FIB_F_DADDR`: the address that it goes to.
    pub const DESTINATION: u32 = 2;
    /// `RTN_LOCAL`: the address is one of this machine's own.
    pub const LOCAL: u32 = 2;
}

/// The bits of `NFT_CT_STATE`: invalid, established, related, new, untracked
/// (`NF_CT_STATE_BIT` in linux/netfilter/nf_conntrack_common.h).
pub const STATE_BITS: [u32; 5] = [1, 2, 4, 8, 64];

macro_rules! open_enum {
    ($(#[$doc:meta])* $name:ident { $($(#[$item_doc:meta])* $item:ident = $number:literal),* $(,)? }) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub enum $name {
            $($(#[$item_doc])* $item,)*
            /// A number that has no name here.
            Unknown(u32),
        }

        impl $name {
            /// The number that the kernel has for it.
            #[must_use]
            pub fn number(self) -> u32 {
                match self {
                    $(Self::$item => $number,)*
                    Self::Unknown(number) => number,
                }
            }

            /// The value for the kernel's number.
            #[must_use]
            pub(crate) fn from_number(number: u32) -> Self {
                match number {
                    $($number => Self::$item,)*
                    number => Self::Unknown(number),
                }
            }
        }
    };
}

open_enum! {
    /// What `meta` loads (`enum nft_meta_keys`).
    MetaKey {
        /// `NFT_META_PRIORITY`: a number that queues go by, 4 bytes in host order.
        Priority = 2,
        /// `NFT_META_MARK`: the packet's mark, 4 bytes in host order.
        Mark = 3,
        /// `NFT_META_IIFNAME`: 16 bytes, padded with NUL.
        InInterfaceName = 6,
        /// `NFT_META_OIFNAME`: 16 bytes, padded with NUL.
        OutInterfaceName = 7,
        /// `NFT_META_NFTRACE`: one byte, whether each step of it is told.
        Traced = 12,
        /// `NFT_META_NFPROTO`: the IP version as 2 or 10.
        Family = 15,
        /// `NFT_META_TIME_NS`: nanoseconds since 1970, 8 bytes in host order.
        Time = 30,
        /// `NFT_META_L4PROTO`: the protocol number, behind extension headers.
        Protocol = 16,
    }
}

open_enum! {
    /// What `socket` loads (`enum nft_socket_keys`).
    SocketKey {
        /// `NFT_SOCKET_TRANSPARENT`: one byte, 1 for a socket that takes packets to addresses of
        /// others.
        Transparent = 0,
        /// `NFT_SOCKET_MARK`: 4 bytes in host order; breaks off for what remains of a socket.
        Mark = 1,
    }
}

open_enum! {
    /// Where `payload` counts from (`enum nft_payload_bases`).
    Base {
        /// `NFT_PAYLOAD_NETWORK_HEADER`.
        Network = 1,
        /// `NFT_PAYLOAD_TRANSPORT_HEADER`.
        Transport = 2,
    }
}

open_enum! {
    /// How `cmp` compares (`enum nft_cmp_ops`).
    Compare {
        /// `NFT_CMP_EQ`.
        Equal = 0,
        /// `NFT_CMP_NEQ`.
        NotEqual = 1,
        /// `NFT_CMP_LT`, byte by byte: the values are in network order.
        Less = 2,
    }
}

open_enum! {
    /// How `reject` answers (`enum nft_reject_types`).
    RejectKind {
        /// `NFT_REJECT_TCP_RST`.
        TcpReset = 1,
        /// `NFT_REJECT_ICMPX_UNREACH`: ICMP or ICMPv6 by the packet's version.
        Unreachable = 2,
    }
}

/// `NFT_REJECT_ICMPX_ADMIN_PROHIBITED`.
pub const PROHIBITED: u8 = 3;
