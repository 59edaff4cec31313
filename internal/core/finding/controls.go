package finding

// Controls reports a character that steers a terminal or a mail program instead of being shown: a control character, or one that
// turns the direction of what follows.
func Controls(r rune) bool {
	return r < ' ' || r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}
