//! Threads that share work, trying again, and keeping to a rate.

pub mod pool;
pub mod rate_limit;
pub mod retry;
