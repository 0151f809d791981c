// @ts-check
// The one module of the shelf that runs on import: the page's own script.
import { startShelf } from "./pages/shelf.js";

startShelf();
