import { cleanup } from "@testing-library/react";
import { afterEach, vi } from "vitest";

// What the document of these tests lacks, and lists and charts ask for.
class Watcher {
  observe() {}
  unobserve() {}
  disconnect() {}
}
vi.stubGlobal("ResizeObserver", Watcher);
vi.stubGlobal("IntersectionObserver", Watcher);
Element.prototype.hasPointerCapture = () => false;
Element.prototype.releasePointerCapture = () => {};
Element.prototype.scrollIntoView = () => {};

afterEach(() => {
  cleanup();
  localStorage.clear();
});
