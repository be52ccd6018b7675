// Package status says how a lane stands: what it is held to and what differs from that, what an
// update may have brought, what two builds differ in. It reads, and changes nothing.
package status
