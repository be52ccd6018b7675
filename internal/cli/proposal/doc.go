// Package proposal shows a proposed change, asks, and has it carried out.
package proposal
