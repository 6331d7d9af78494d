import { cleanup, configure } from "@testing-library/react";
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
Blob.prototype.text = function () {
  return new Promise((done) => {
    const reader = new FileReader();
    reader.onload = () => done(reader.result as string);
    reader.readAsText(this);
  });
};

configure({ asyncUtilTimeout: 15_000 });

afterEach(() => {
  cleanup();
  window.history.replaceState(null, "", "/");
  localStorage.clear();
});
