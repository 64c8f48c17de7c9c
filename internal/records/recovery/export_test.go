package recovery

func init() { work = 10 } // tests try many
