declare module 'virtual:docs' {
  const pages: Record<string, string>
  export default pages
}
