import { act, cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import { CameraButton } from "./camera";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

/** A browser whose camera sees one code after the other. */
function sees(...codes: string[]) {
  const stop = vi.fn();
  vi.stubGlobal(
    "BarcodeDetector",
    class {
      detect = () => Promise.resolve(codes.length ? [{ rawValue: codes.shift()! }] : []);
    },
  );
  vi.stubGlobal("navigator", { ...navigator, mediaDevices: { getUserMedia: () => Promise.resolve({ getTracks: () => [{ stop }] }) } });
  HTMLMediaElement.prototype.play = () => Promise.resolve();
  return stop;
}

describe("the camera", () => {
  it("is not offered where the browser reads no barcodes", () => {
    render(<CameraButton onScan={() => undefined} />);
    expect(screen.queryByRole("button", { name: "Camera" })).toBeNull();
  });

  it("reads a code once while it looks at it, and then the next; closed, it lets go of the camera", async () => {
    const stop = sees("JAR", "JAR", "LID");
    const read: string[] = [];
    render(<CameraButton onScan={(c) => read.push(c)} />);
    await userEvent.click(screen.getByRole("button", { name: "Camera" }));
    await vi.waitFor(() => expect(read).toEqual(["JAR", "LID"]), { timeout: 3000 });
    await userEvent.click(screen.getByRole("button", { name: "Camera" }));
    expect(stop).toHaveBeenCalled();
  });

  it("says why it cannot be used", async () => {
    sees();
    navigator.mediaDevices.getUserMedia = () => Promise.reject(new Error("Permission denied"));
    render(<CameraButton onScan={() => undefined} />);
    await act(async () => userEvent.click(screen.getByRole("button", { name: "Camera" })));
    expect((await screen.findByRole("alert")).textContent).toContain("Permission denied");
  });
});
