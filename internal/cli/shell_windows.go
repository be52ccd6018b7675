package cli

func systemShell(line string) (string, []string) { return "cmd", []string{"/C", line} }
