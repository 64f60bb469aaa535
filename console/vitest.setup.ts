// What a browser has and the document of the tests has not.
globalThis.CSS ??= { escape: (text: string) => text.replace(/[^\w-]/g, (c) => `\\${c}`) } as typeof CSS;
