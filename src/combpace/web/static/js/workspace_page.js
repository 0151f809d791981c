// @ts-check
// The one module of the workspace that runs on import: the page's own script.
import { startWorkspace } from "./pages/workspace.js";

startWorkspace();
