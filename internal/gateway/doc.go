// Package gateway is the service without a face: everything that a surface may
// call. A read goes Read → cache → store; a change goes Apply → store → change
// log → follower → cache and rules. Surfaces add spelling, nothing else.
package gateway
