//! The real interfaces on real servers: the service on loopback through the
//! command line and the API, the console in headless Chromium.

mod anyserver;
mod api;
mod baseline;
mod browser;
mod certs;
mod claims;
mod claims_console;
mod cli;
mod console;
mod crash;
mod demo;
mod dns;
mod drift;
mod feed;
mod guard;
mod hanging;
mod issuance;
mod journey;
mod life;
mod lives;
mod methods;
mod misbehaving;
mod mistakes;
mod names;
mod own;
mod preflight;
mod processes;
mod rehearsal;
mod sheets;
mod shots;
mod stage;
mod sweeps;
mod turns;
mod waiting;
