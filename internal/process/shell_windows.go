package process

func shell(line string) (string, []string) { return "cmd", []string{"/C", line} }
