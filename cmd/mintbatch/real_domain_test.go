//go:build real

package main

import "testing"

// The whole program beside a domain controller; real/domain.sh runs it.
func TestInDomain(t *testing.T) { scripts(t, "testdata/domain") }
