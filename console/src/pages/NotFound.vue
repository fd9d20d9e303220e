<template>
  <h1>Page not found</h1>
  <p>Open the <RouterLink to="/">overview</RouterLink>.</p>
</template>
