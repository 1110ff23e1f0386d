"""The computation, free of any interface: nothing here prints, parses arguments or knows a terminal."""
