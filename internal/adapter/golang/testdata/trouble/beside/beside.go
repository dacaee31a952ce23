package beside
