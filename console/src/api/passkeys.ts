/** What is between the browser's WebAuthn and its JSON form (Web Authentication level 3, W3C). */

const bytes = (text: string) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));

const text = (buffer: ArrayBuffer | null) =>
  buffer
    ? btoa(String.fromCharCode(...new Uint8Array(buffer)))
        .replace(/\+/g, "-")
        .replace(/\//g, "_")
        .replace(/=+$/, "")
    : undefined;

type Described = { id: string; type: "public-key"; transports?: AuthenticatorTransport[] };

const described = (list?: Described[]) => list?.map((d) => ({ ...d, id: bytes(d.id) }));

type Options = Record<string, unknown> & {
  challenge: string;
  user?: { id: string };
  excludeCredentials?: Described[];
  allowCredentials?: Described[];
};

/** Whether this browser knows passkeys. */
export const knowsPasskeys = () => typeof PublicKeyCredential !== "undefined";

/** Has a device make a passkey, and returns its answer to be sent. */
export async function makePasskey(options: unknown): Promise<Record<string, unknown>> {
  const o = options as Options;
  const made = (await navigator.credentials.create({
    publicKey: {
      ...o,
      challenge: bytes(o.challenge),
      user: { ...o.user, id: bytes(o.user?.id ?? "") },
      excludeCredentials: described(o.excludeCredentials),
    } as unknown as PublicKeyCredentialCreationOptions,
  })) as PublicKeyCredential;
  const response = made.response as AuthenticatorAttestationResponse;
  return {
    id: made.id,
    rawId: text(made.rawId),
    type: made.type,
    clientExtensionResults: made.getClientExtensionResults(),
    response: {
      attestationObject: text(response.attestationObject),
      clientDataJSON: text(response.clientDataJSON),
      transports: response.getTransports(),
    },
  };
}

/** Has a device prove that it has a passkey, and returns its answer to be sent. */
export async function provePasskey(options: unknown): Promise<Record<string, unknown>> {
  const o = options as Options;
  const used = (await navigator.credentials.get({
    publicKey: {
      ...o,
      challenge: bytes(o.challenge),
      allowCredentials: described(o.allowCredentials),
    } as unknown as PublicKeyCredentialRequestOptions,
  })) as PublicKeyCredential;
  const response = used.response as AuthenticatorAssertionResponse;
  return {
    id: used.id,
    rawId: text(used.rawId),
    type: used.type,
    clientExtensionResults: used.getClientExtensionResults(),
    response: {
      authenticatorData: text(response.authenticatorData),
      clientDataJSON: text(response.clientDataJSON),
      signature: text(response.signature),
      userHandle: text(response.userHandle),
    },
  };
}
