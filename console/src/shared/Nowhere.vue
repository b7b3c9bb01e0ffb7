<template>
  <main class="page">
    <h1>There is nothing here</h1>
    <p>
      The link may be mistyped.
      <RouterLink class="within" to="/">Go to the projects</RouterLink>
    </p>
  </main>
</template>
