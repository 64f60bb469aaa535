// What a browser has and the document of the tests has not.
globalThis.CSS ??= { escape: (text: string) => text.replace(/[^\w-]/g, (c) => `\\${c}`) } as typeof CSS;

// The console asks its own host, which the document of the tests is not: addresses are made whole.
const Asked = globalThis.Request;
globalThis.Request = class extends Asked {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://rewind.test") : input, init);
  }
};
