declare const process: { argv: string[] }
