import { holdConsole } from "./console";

// Modules are shared between files, and this is run before each of them.
holdConsole();
