"""What a controller does: settings in layers, heat under guards, a queue of motion, images, the protocol's service."""
